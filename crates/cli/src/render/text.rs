//! Text from outside, made fit for a terminal.

use tipstaff_app::Written;
use tipstaff_core::policy::deceives;

/// Makes text from outside harmless: control characters, and those that change the order in
/// which text is shown, are written as escapes.
pub fn clean(text: &str) -> String {
    if text.bytes().all(|it| (0x20..0x7f).contains(&it)) {
        return text.to_owned();
    }
    let mut out = String::with_capacity(text.len());
    for char in text.chars() {
        if deceives(char) {
            out.extend(char.escape_default());
        } else {
            out.push(char);
        }
    }
    out
}

/// JSON with everything that a terminal could obey written as escapes: it means the same.
pub fn clean_json(json: &str) -> String {
    let mut out = String::with_capacity(json.len());
    for char in json.chars() {
        // Its own line ends and blanks are no part of its texts.
        if deceives(char) && char != '\n' {
            out.push_str(&format!("\\u{:04x}", u32::from(char)));
        } else {
            out.push(char);
        }
    }
    out
}

/// A place in a policy for a table: the file's name without its folders, which would take the
/// room of everything else.
pub fn place(origin: Option<&Written>) -> String {
    origin.map_or_else(
        || "built in".into(),
        |it| format!("{}:{}", it.file.rsplit('/').next().unwrap_or_default(), it.line),
    )
}

/// How long ago, in one unit.
pub(super) fn ago(seconds: u64) -> String {
    match seconds {
        0 => "just now".into(),
        _ => format!("{} ago", span(seconds)),
    }
}

/// A number of seconds in one unit.
pub(super) fn span(seconds: u64) -> String {
    match seconds {
        ..120 => format!("{seconds} s"),
        120..7_200 => format!("{} min", seconds / 60),
        7_200..172_800 => format!("{} h", seconds / 3_600),
        _ => format!("{} days", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::{Written, clean, clean_json, place};

    #[test]
    fn tables_name_files_without_their_folders() {
        let written = Written { file: "/etc/tipstaff/policy.toml".into(), line: 7 };
        assert_eq!(place(Some(&written)), "policy.toml:7");
        assert_eq!(place(None), "built in");
    }

    #[test]
    fn escapes_cannot_reach_the_terminal() {
        assert_eq!(clean("seed\u{1b}[2Jbase\n"), "seed\\u{1b}[2Jbase\\n");
        assert_eq!(clean("a\u{202e}b"), "a\\u{202e}b");
        assert_eq!(clean("a\u{9b}31mb\u{2028}c\u{61c}"), "a\\u{9b}31mb\\u{2028}c\\u{61c}");
        let json = clean_json("[\"a\u{9b}b\u{2029}c\u{202e}d\"]");
        assert_eq!(json, "[\"a\\u009bb\\u2029c\\u202ed\"]");
        let same: Vec<String> = serde_json::from_str(&json).expect("JSON");
        assert_eq!(same, ["a\u{9b}b\u{2029}c\u{202e}d"]);
        assert_eq!(clean("Samenbank Königsmoor"), "Samenbank Königsmoor");
    }
}
