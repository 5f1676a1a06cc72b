//! What all parts of the reader share.

use super::super::table::{Reader, Table, Text};
use super::super::{Accepted, Code, Diagnostic, nearest};

/// A list that, if it is there at all, must have an item: an empty one reads like "nobody" to
/// some and like "everybody" to others.
pub(crate) fn nonempty_list(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    key: &str,
) -> Vec<Text> {
    let list = table.list(reader, key);
    let span = table.value_span(key);
    if let Some(span) = span
        && list.as_ref().map_or_else(|| table.is_empty_table(key), Vec::is_empty)
        && reader.source.text.get(span.clone()).is_some_and(|text| text.starts_with(['[', '{']))
        && !reader
            .problems
            .iter()
            .any(|problem| problem.offset() >= span.start && problem.offset() < span.end)
    {
        let origin = reader.origin(span);
        let example = table.spec.key(key).map_or("", |key| key.example);
        reader.report(
            Diagnostic::error("empty-list", format!("`{key}` is empty"), origin)
                .expected(format!("expected at least one item, such as {example}")),
        );
    }
    list.unwrap_or_default()
}

/// The items of a list of texts, or of a table that says of each what it is for.
pub(super) fn described(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    key: &str,
) -> Vec<(Text, Option<Text>)> {
    let words = table.words(reader, key);
    if words.is_empty() {
        return nonempty_list(reader, table, key).into_iter().map(|it| (it, None)).collect();
    }
    words.into_iter().map(|(term, text)| (term, Some(text))).collect()
}

/// The findings that the `accept` key accepts.
pub(super) fn accepted(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Vec<Accepted> {
    let mut list = Vec::new();
    for (word, reason) in table.words(reader, "accept") {
        let Some(code) = Code::parse(&word.value) else {
            let origin = reader.origin(word.inner());
            let message = format!("there is no finding `{}`", word.value.escape_debug());
            let problem = Diagnostic::error("unknown-finding", message, origin);
            let names = || Code::ALL.iter().map(|it| it.as_str());
            reader.report(match nearest(&word.value, names()) {
                Some(near) => {
                    problem.expected(format!("did you mean `{near}`?")).replace_with(near)
                }
                None => problem
                    .expected("expected the code of a finding")
                    .help(format!("the codes are: {}", names().collect::<Vec<_>>().join(", "))),
            });
            continue;
        };
        if reason.value.trim().is_empty() {
            let origin = reader.origin(reason.span.clone());
            reader.report(
                Diagnostic::error("no-reason", "accepted without a reason", origin)
                    .expected("say why, for those who read this later"),
            );
        }
        list.push(Accepted { code, reason: reason.value });
    }
    list
}

pub(super) fn choice<'a>(
    reader: &mut Reader<'_>,
    text: &'a Text,
    words: &[&'a str],
) -> Option<&'a str> {
    if let Some(word) = words.iter().find(|&&word| word == text.value) {
        return Some(word);
    }
    let problem = Diagnostic::error(
        "unknown-word",
        format!("`{}` is not a choice here", text.value),
        reader.origin(text.inner()),
    );
    reader.report(match nearest(&text.value, words.iter().copied()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => problem.expected(format!("expected one of: {}", words.join(", "))),
    });
    None
}

/// Names are spoken aloud, typed into commands and carried into the kernel: lower-case letters,
/// digits and hyphens only, at most 63 of them.
pub(crate) fn check_name(reader: &mut Reader<'_>, what: &str, name: &Text) {
    let good = |char: char| char.is_ascii_lowercase() || char.is_ascii_digit() || char == '-';
    let found = &name.value;
    if (1..=63).contains(&found.len()) && found.chars().all(good) && !found.starts_with('-') {
        return;
    }
    let mended: String = found
        .to_lowercase()
        .chars()
        .map(|char| if good(char) { char } else { '-' })
        .take(63)
        .collect();
    let mended = mended.trim_matches('-').to_owned();
    let problem = Diagnostic::error(
        "bad-name",
        format!("{what} name `{}` cannot be used", found.escape_debug()),
        reader.origin(name.inner()),
    )
    .expected("a name has 1 to 63 lower-case letters, digits and hyphens");
    reader.report(if mended.is_empty() || what != "rule" {
        problem
    } else {
        problem.replace_with(mended)
    });
}
