//! Characters that are not seen as what they are.

/// Whether a character is not seen itself but changes what is: control characters, directions, joiners,
/// and what separates lines and paragraphs. Text from outside that is shown has them as escapes.
#[must_use]
pub fn deceives(char: char) -> bool {
    char.is_control()
        || matches!(char,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{2069}' | '\u{feff}')
}
