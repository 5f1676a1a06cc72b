//! Mistakes in what was typed are pointed at there.

use crate::harness::{Desk, MENDED};

#[test]
fn mistakes_are_shown_in_the_words_that_were_typed() {
    let desk = Desk::with(MENDED);
    let said = |words: &[&str]| {
        let all = ["--host", "sluice"].iter().chain(words);
        desk.run(all).exits(2).stderr
    };
    for (words, line, caret) in [
        (&["rule", "add", "x", "--allow", "443/tpc"][..], "--allow 443/tpc", "tpc"),
        (
            &["rule", "add", "x", "--allow", "443/tcp", "--from", "curaters"],
            "--from curaters",
            "curaters",
        ),
        (&["rule", "add", "x", "--allow=443"], "--allow=443", "443"),
        (&["expect", "add", "maybe", "1/tcp"], "expect add maybe 1/tcp", "maybe"),
        (&["interface", "add", "in", "eth 1"], "interface add in 'eth 1'", "eth 1"),
        (&["bundle", "use", "nothing"], "bundle use nothing", "nothing"),
        (&["host", "change", "sluice", "--addresses", "1.2.3"], "--addresses 1.2.3", "1.2.3"),
        (&["defaults", "--inbound", "perhaps"], "--inbound perhaps", "perhaps"),
    ] {
        let text = said(words);
        assert!(text.contains("--> what was typed:1:"), "{text}");
        let typed = text.lines().find(|it| it.contains(line)).unwrap_or_else(|| panic!("{text}"));
        let marks = text.lines().find(|it| it.contains('^')).expect("a caret");
        let at = marks.find('^').expect("a caret");
        assert!(typed[at..].starts_with(caret), "{text}");
        assert_eq!(marks.matches('^').count(), caret.len(), "{text}");
    }
    // A mistake that the file had before is shown in the file, whatever was typed.
    desk.write(MENDED.replace("2202/tcp", "2202/tpc"));
    let text = said(&["rule", "add", "x", "--allow", "2202/tpc"]);
    assert!(text.contains("--> policy.toml:") && !text.contains("what was typed"), "{text}");
    // What was typed is escaped like everything from outside.
    desk.write(MENDED);
    let text = said(&["rule", "add", "x\u{1b}[31m", "--allow", "1/tcp"]);
    assert!(!text.contains('\u{1b}'), "{text}");
}
