//! Senders and receivers.

use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, Names, ON_LINK, THIS_HOST};
use super::super::{Diagnostic, Ends};
use super::common::nonempty_list;
use crate::space::{AddressSet, Direction, Relation, RelationSet, loopback};

/// Reads the list of a key, and gives its terms as written; everybody when left out.
pub(super) fn ends(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    key: &str,
) -> (Ends, Vec<String>) {
    if !table.has(key) {
        return (Ends::anybody(), Vec::new());
    }
    let list = nonempty_list(reader, table, key);
    let before = reader.problems.len();
    let set = named(reader, names, &list);
    // What comes from files is not known here, and is another tomorrow.
    let of_files = list.iter().any(|it| {
        let word = it.value.strip_prefix('!').unwrap_or(&it.value);
        names.places.iter().any(|it| it.name == word && it.data.is_some())
    });
    let understood = !list.is_empty() && !of_files && reader.problems.len() == before;
    if let (true, true, Some(span)) = (understood, set.is_empty(), table.value_span(key)) {
        let origin = reader.origin(span);
        reader.report(
            Diagnostic::error(
                "nobody-left",
                format!("`{key}` leaves out all that it names"),
                origin,
            )
            .expected("no packet can match"),
        );
    }
    (set, list.into_iter().map(|term| term.value).collect())
}

/// Whether a list says something of the host's own addresses, or of the networks that it is on.
pub(super) fn is_about_the_host(list: &[Text]) -> impl Iterator<Item = &Text> {
    list.iter().filter(|term| {
        let word = term.value.strip_prefix('!').unwrap_or(&term.value);
        [THIS_HOST, ON_LINK].contains(&word)
    })
}

/// What a list means, whatever the host's addresses are.
fn named(reader: &mut Reader<'_>, names: &Names<'_>, list: &[Text]) -> Ends {
    if !names.moving || is_about_the_host(list).next().is_none() {
        return Ends::of(terms::addresses(reader, names, list));
    }
    // The list says for each relation which addresses it means. What is wrong with it is told once.
    let (own, everybody, nobody) = (own(), AddressSet::full(), AddressSet::empty());
    let mut parts = Vec::new();
    for (at, relation) in Relation::ALL.into_iter().enumerate() {
        let names = Names {
            this_host: Some(if relation.own { &own } else { &nobody }),
            on_link: Some(if relation.on_link { &everybody } else { &nobody }),
            ..*names
        };
        let (problems, uses) = (reader.problems.len(), reader.uses.len());
        parts.push((RelationSet::of(|it| it == relation), terms::addresses(reader, &names, list)));
        if at > 0 {
            reader.problems.truncate(problems);
            reader.uses.truncate(uses);
        }
    }
    Ends::by_relation(parts)
}

/// What can be one of the host's own addresses: the kernel calls those of the loopback interface local
/// too.
fn own() -> AddressSet {
    AddressSet::full().difference(&loopback())
}

/// The `at` key: some of the host's own addresses; all addresses when left out.
pub(super) fn own_ends(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    table: &Table<'_, '_>,
    direction: Direction,
) -> (Ends, Vec<String>) {
    let Some(key) = table.key_span("at") else { return (Ends::anybody(), Vec::new()) };
    if direction == Direction::Forwarded {
        let origin = reader.origin(key);
        reader.report(
            Diagnostic::error("at-forwarded", "forwarded packets are not for this host", origin)
                .expected("name receivers with `to`, senders with `from`"),
        );
    }
    let list = nonempty_list(reader, table, "at");
    let moves = names.moving || names.any_host;
    let mut sets = Vec::new();
    for term in &list {
        if term.value == THIS_HOST {
            sets.push(if names.moving {
                own()
            } else {
                names.this_host.cloned().unwrap_or_default()
            });
            continue;
        }
        let Some(block) = terms::block(reader, term) else { continue };
        let own = |address| names.this_host.is_some_and(|own| own.contains(address));
        if moves || block.as_single().is_some_and(own) {
            sets.push(block.addresses());
        } else {
            let origin = reader.origin(term.inner());
            let message = format!("`{block}` is not an address of this host");
            let problem = Diagnostic::error("not-own-address", message, origin);
            let own = names.this_host.map(ToString::to_string).unwrap_or_default();
            reader.report(problem.expected(format!("its addresses are: {own}")));
        }
    }
    let set: AddressSet = sets.into_iter().collect();
    let set = if names.moving {
        Ends::by_relation([(RelationSet::of(|it| it.own), set)])
    } else {
        Ends::of(set)
    };
    (set, list.into_iter().map(|term| term.value).collect())
}
