//! Pieces of a policy's text.

use crate::policy::deceives;
use crate::policy::edit::quoted;

/// Adds a comment, in lines of readable length. Nothing in it can end it.
pub(super) fn comment(out: &mut String, text: &str) {
    const WIDTH: usize = 96;
    let clean: String = text.chars().map(|it| if deceives(it) { '\u{fffd}' } else { it }).collect();
    let mut line = String::from("#");
    for word in clean.split(' ') {
        if line.len() > 1 && line.chars().count() + 1 + word.chars().count() > WIDTH {
            out.push_str(&line);
            out.push('\n');
            line = String::from("#");
        }
        line.push(' ');
        line.push_str(word);
    }
    out.push_str(&line);
    out.push('\n');
}

pub(super) fn list(items: impl IntoIterator<Item = String>) -> String {
    let items: Vec<String> = items.into_iter().map(|it| quoted(&it)).collect();
    format!("[{}]", items.join(", "))
}

/// A name as policies have them, made from any text.
pub(crate) fn slug(text: &str, otherwise: &str) -> String {
    let mut name = String::new();
    for char in text.chars().flat_map(char::to_lowercase) {
        if char.is_ascii_alphanumeric() {
            name.push(char);
        } else if !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
    }
    let name = name.trim_end_matches('-');
    if name.is_empty() { otherwise.into() } else { name.chars().take(48).collect() }
}
