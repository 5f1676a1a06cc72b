//! Who is turned away ahead of everything else, and for how long.

use super::super::model::TurnedAway;
use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, Names};
use super::super::{Diagnostic, Time};
use super::ends::{ends, is_about_the_host};
use super::settings::Part;
use crate::space::AddressSet;

/// What stands between who it is and until when.
const UNTIL: &str = " until ";

/// All that the host and its labels turn away.
pub(super) fn all_turned_away(own: Option<TurnedAway>, parts: &[Part]) -> Option<TurnedAway> {
    let of_labels = parts.iter().filter_map(|it| it.turned_away.clone());
    let there = own.as_ref().map_or(0, |it| it.terms.len());
    let all = own.into_iter().chain(of_labels).reduce(TurnedAway::and);
    all.map(|it| TurnedAway { own: there, ..it })
}

/// Reads the key `turned-away` of a section.
pub(super) fn turned_away(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
) -> Option<TurnedAway> {
    let span = table.key_span("turned-away")?;
    let before = reader.problems.len();
    let list = table.list(reader, "turned-away").unwrap_or_default();
    let timed = |it: &Text| it.value.contains(UNTIL) || it.value.ends_with(')');
    let (addresses, for_a_time, terms);
    if list.iter().any(timed) {
        (addresses, for_a_time) = one_by_one(reader, names, &list);
        terms = list.iter().map(|it| it.value.clone()).collect();
    } else {
        let (named, written) = ends(reader, names, table, "turned-away");
        (addresses, for_a_time, terms) = (named.addresses(), Vec::new(), written);
    }
    if names.moving && reader.problems.len() == before {
        for term in is_about_the_host(&list) {
            let origin = reader.origin(term.inner());
            let message = format!("who `{}` is changes with the host's addresses", term.value);
            reader.report(
                Diagnostic::error("moving-addresses", message, origin)
                    .expected("name networks or places, or give the host `addresses`"),
            );
        }
    }
    let own = terms.len();
    Some(TurnedAway { addresses, for_a_time, terms, own, origin: reader.origin(span) })
}

/// A list in which a moment, or a reason, stands behind some of those it names.
fn one_by_one(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    list: &[Text],
) -> (AddressSet, Vec<(Time, AddressSet)>) {
    let (mut always, mut for_a_time) = (Vec::new(), Vec::new());
    for text in list {
        let (who, until) = parts(reader, text);
        match until {
            Some(_) if who.value.starts_with('!') => {
                let origin = reader.origin(who.inner());
                let message = "nobody can be left out for a time".to_owned();
                reader.report(Diagnostic::error("timed-exception", message, origin).expected(
                    "who is turned away, such as `203.0.113.9 until 2026-12-24T18:00:00Z`",
                ));
            }
            Some(time) => {
                let addresses = terms::addresses(reader, names, std::slice::from_ref(&who));
                for_a_time.push((time, addresses));
            }
            None => always.push(who),
        }
    }
    let always = match always.is_empty() {
        true => AddressSet::empty(),
        false => terms::addresses(reader, names, &always),
    };
    (always, for_a_time)
}

/// Where in an item who it is ends, and where what stands in brackets for readers begins.
fn ends_of(item: &str) -> (usize, usize) {
    let end = match item.strip_suffix(')').and_then(|it| it.find(" (")) {
        Some(at) => at,
        None => item.len(),
    };
    (item[..end].find(UNTIL).unwrap_or(end), end)
}

/// Whom an item of the list names, without until when and why.
#[must_use]
pub fn who_is_turned_away(item: &str) -> &str {
    &item[..ends_of(item).0]
}

/// Who it is, and until when: `203.0.113.9 until 2026-12-24T18:00:00Z (knocks at night)`.
fn parts(reader: &mut Reader<'_>, text: &Text) -> (Text, Option<Time>) {
    let (at, end) = ends_of(&text.value);
    let who = text.piece(0..at);
    if at == end {
        return (who, None);
    }
    let when = text.piece(at + UNTIL.len()..end);
    let time = Time::parse(when.value.trim());
    if time.is_none() {
        let origin = reader.origin(when.inner());
        let message = format!("`{}` is not a moment", when.value.escape_debug());
        reader.report(
            Diagnostic::error("bad-time", message, origin).expected(
                "expected date, time and distance from UTC, such as `2026-12-24T18:00:00Z`",
            ),
        );
    }
    // What cannot be read has been told, and ends at no time.
    (who, time)
}
