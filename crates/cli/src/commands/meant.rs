//! Words that people try first, and the commands that they mean.

use clap::Command;
use clap::error::{ContextKind, ContextValue, Error, ErrorKind};

/// Each with what does it here. None of them is a command.
const MEANT: [(&[&str], &str); 14] = [
    (
        &["list", "ls"],
        "`rule list`, `place list` and `service list` list what the policy has; `show` the whole decision list",
    ),
    (
        &["add", "insert", "append", "create", "new"],
        "`rule add NAME --allow 443/tcp` adds a rule, `place add` and `service add` the others",
    ),
    (
        &["delete", "del", "rm", "remove"],
        "`rule remove NAME` removes a rule, `place remove` and `service remove` the others",
    ),
    (
        &["block", "deny", "drop", "ban"],
        "`rule add NAME --deny any --from ADDRESS --first` denies what comes from somebody",
    ),
    (
        &["open", "allow", "permit", "accept"],
        "`rule add NAME --allow 443/tcp` opens a port, with --from for some only",
    ),
    (
        &["close"],
        "`rule list --where port=443` finds what opens a port, `rule pause` or `rule remove` takes it away",
    ),
    (
        &["check", "verify", "validate", "lint"],
        "`review` finds what is probably not meant, `reach` tries who really gets through",
    ),
    (
        &["test", "try", "simulate"],
        "`ask` tells what happens to one packet, `rehearse` tries them all in a sealed lab",
    ),
    (&["scan", "ports"], "`reach` shows which listening ports can be reached, from where, and why"),
    (
        &["save", "commit", "persist"],
        "changes are written at once; `confirm` keeps what was enforced, also over a reboot",
    ),
    (
        &["reload", "apply", "load", "start", "enable", "up", "on", "restart"],
        "`enforce` puts the policy's rules into the kernel",
    ),
    (
        &["disable", "stop", "down", "off", "flush", "clear"],
        "`release` takes our rules out of the kernel, `rule pause NAME` a single one",
    ),
    (
        &["reset", "rollback", "restore"],
        "`revert` goes back to what was confirmed before, `undo` takes back a change of the file, `docket restore ID` writes a former policy back",
    ),
    (
        &["log", "logs", "events", "history", "stats"],
        "`docket` tells what was enforced and by whom, `status` what each rule has taken; `log = true` in a rule reports its packets",
    ),
];

/// What a word that is no command was probably meant for.
fn meant(word: &str) -> Option<&'static str> {
    MEANT.iter().find(|it| it.0.contains(&word)).map(|it| it.1)
}

/// The error, with the command that was meant if that is known.
pub fn explained(error: Error, command: &mut Command) -> Error {
    let word = match error.get(ContextKind::InvalidSubcommand) {
        Some(ContextValue::String(word)) if error.kind() == ErrorKind::InvalidSubcommand => word,
        _ => return error,
    };
    match meant(&word.to_lowercase()) {
        Some(help) => command.error(
            ErrorKind::InvalidSubcommand,
            format!("there is no command `{}`\n\n  tip: {help}", word.escape_debug()),
        ),
        None => error,
    }
}

#[cfg(test)]
mod tests {
    use super::{MEANT, meant};

    /// Every command that is named exists, and no word for one is a command.
    #[test]
    fn what_is_meant_is_there() {
        let command = crate::commands::command();
        let is_command = |word: &str| command.get_subcommands().any(|it| it.get_name() == word);
        for (words, help) in MEANT {
            for word in words {
                assert!(!is_command(word), "{word}");
                assert_eq!(meant(word), Some(help));
            }
            for quoted in help.split('`').skip(1).step_by(2).filter(|it| !it.contains(" = ")) {
                let first = quoted.split(' ').next().unwrap_or_default();
                assert!(is_command(first), "{quoted}");
                let inner = command.get_subcommands().find(|it| it.get_name() == first);
                let mut parts =
                    inner.into_iter().flat_map(clap::Command::get_subcommands).peekable();
                if parts.peek().is_some() {
                    let second = quoted.split(' ').nth(1);
                    assert!(
                        second.is_none_or(|it| parts.any(|part| part.get_name() == it)),
                        "{quoted}"
                    );
                }
            }
        }
    }
}
