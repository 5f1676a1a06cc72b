//! Whose sockets a rule is about.

use super::super::Diagnostic;
use super::super::table::{Reader, Table};
use super::common::nonempty_list;
use crate::space::Direction;
use std::ops::Range;

/// The longest path of a program, in bytes: the kernel keeps it beside the rules
/// (`NFT_USERDATA_MAXLEN`, less one byte of our own).
const LONGEST_PROGRAM: usize = 255;

/// The executables of the `program` key.
pub(super) fn programs(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    direction: Direction,
) -> Vec<String> {
    let Some(key) = table.key_span("program") else { return Vec::new() };
    not_forwarded(reader, key, direction, "program-forwarded");
    let list = nonempty_list(reader, table, "program");
    for path in &list {
        let parts = || path.value.split('/').skip(1);
        let good = path.value.starts_with('/')
            && parts().all(|part| !matches!(part, "" | "." | ".."))
            && !path.value.contains('\0');
        if good && path.value.len() > LONGEST_PROGRAM {
            let origin = reader.origin(path.inner());
            let message = format!("the path has {} bytes", path.value.len());
            reader.report(
                Diagnostic::error("bad-program", message, origin)
                    .expected(format!("at most {LONGEST_PROGRAM} can be kept with the rules")),
            );
        }
        if !good {
            let origin = reader.origin(path.inner());
            let message = format!("`{}` is not the path of a program", path.value.escape_debug());
            reader.report(
                Diagnostic::error("bad-program", message, origin)
                    .expected("expected an absolute path such as `/usr/sbin/catalogued`"),
            );
        }
    }
    list.into_iter().map(|path| path.value).collect()
}

/// The longest name of a user, in bytes. The system's own are shorter; those of directories may be
/// longer.
const LONGEST_USER: usize = 200;

/// The users of the `user` key: names, or numbers.
pub(super) fn users(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    direction: Direction,
) -> Vec<String> {
    let Some(key) = table.key_span("user") else { return Vec::new() };
    not_forwarded(reader, key, direction, "user-forwarded");
    let list = nonempty_list(reader, table, "user");
    for user in &list {
        // What a line of the list of users cannot hold as a name; a path would be a program.
        let odd = |it: char| it.is_whitespace() || it.is_control() || ":,/".contains(it);
        let name = &user.value;
        let number = name.bytes().all(|it| it.is_ascii_digit());
        // The last number stands for nobody.
        let no_number = number && !name.parse().is_ok_and(|it: u32| it != u32::MAX);
        if name.is_empty() || name.len() > LONGEST_USER || name.contains(odd) || no_number {
            let origin = reader.origin(user.inner());
            let message = format!("`{}` is not the name of a user", name.escape_debug());
            reader.report(Diagnostic::error("bad-user", message, origin).expected(
                "expected a name such as `seedbase`, or a number such as `990`, in quotes",
            ));
        }
    }
    list.into_iter().map(|it| it.value).collect()
}

fn not_forwarded(
    reader: &mut Reader<'_>,
    key: Range<usize>,
    direction: Direction,
    code: &'static str,
) {
    if direction == Direction::Forwarded {
        let origin = reader.origin(key);
        let message = "no program of this host receives or sends forwarded packets";
        reader.report(
            Diagnostic::error(code, message, origin)
                .expected("name senders with `from`, receivers with `to`"),
        );
    }
}
