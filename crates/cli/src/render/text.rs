//! Text from outside, made fit for a terminal.

/// Makes text from outside harmless: control characters, and those that change the order in
/// which text is shown, are written as escapes.
pub fn clean(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for char in text.chars() {
        let reorders = matches!(char,
            '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}');
        if char.is_control() || reorders {
            out.extend(char.escape_default());
        } else {
            out.push(char);
        }
    }
    out
}

/// A place in a policy for a table: the file's name without its folders, which would take the
/// room of everything else.
pub fn place(origin: Option<&str>) -> &str {
    origin.map_or("built in", |origin| origin.rsplit('/').next().unwrap_or(origin))
}

#[cfg(test)]
mod tests {
    use super::{clean, place};

    #[test]
    fn tables_name_files_without_their_folders() {
        assert_eq!(place(Some("/etc/tipstaff/policy.toml:7")), "policy.toml:7");
        assert_eq!(place(None), "built in");
    }

    #[test]
    fn escapes_cannot_reach_the_terminal() {
        assert_eq!(clean("seed\u{1b}[2Jbase\n"), "seed\\u{1b}[2Jbase\\n");
        assert_eq!(clean("a\u{202e}b"), "a\\u{202e}b");
        assert_eq!(clean("Samenbank Königsmoor"), "Samenbank Königsmoor");
    }
}
