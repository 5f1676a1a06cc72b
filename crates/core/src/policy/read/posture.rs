//! Postures of a host.

use super::super::table::{Reader, Table, Text};
use super::super::taken::{ALWAYS, NO_POSTURE, SHUT};
use super::super::terms::Names;
use super::super::{Diagnostic, Posture, nearest};
use super::bundle::{Bundles, Unfolded};
use super::common::{accepted, check_name};
use super::settings::Settings;
use super::turned_away::turned_away;
use super::when::{self, when};
use crate::policy::Host;

/// Names that say something else where a posture is named.
const TAKEN: [&str; 3] = [ALWAYS, NO_POSTURE, SHUT];

/// How it is told that a host does not have a posture.
const NOT_ITS: &str = "the host has no posture";

/// Reads the postures of a host, whose own rules are known.
pub(super) fn postures(
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    bundles: &Bundles<'_, '_>,
    table: &Table<'_, '_>,
    own: &Unfolded,
) -> Vec<Posture> {
    let mut postures = Vec::new();
    for (name, table) in table.named(reader, "posture") {
        check_name(reader, "posture", &name);
        if TAKEN.contains(&name.value.as_str()) {
            let message = format!("`{}` is no name for a posture of your own", name.value);
            let origin = reader.origin(name.span.clone());
            reader.report(
                Diagnostic::error("reserved-name", message, origin).expected("choose another name"),
            );
        }
        let instead = table.switch("instead").unwrap_or(false);
        // Ahead of the host's own rules their names are taken.
        let mut unfolded = if instead { Unfolded::default() } else { own.names_only() };
        for rule in table.tables(reader, "rule") {
            bundles.unfold(reader, names, &rule, &mut unfolded);
        }
        let Settings { defaults, ping, switches } = Settings::read(reader, &table);
        postures.push(Posture {
            why: table.text(reader, "why").map(|text| text.value),
            when: when(reader, &table),
            instead,
            rules: unfolded.rules,
            defaults,
            ping,
            switches,
            turned_away: turned_away(reader, names, &table),
            accepted: accepted(reader, &table),
            origin: reader.origin(name.span),
            name: name.value,
        });
    }
    postures
}

/// The posture that a boot begins in.
pub(super) fn at_boot(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    postures: &[Posture],
) -> Option<String> {
    let found = table
        .text(reader, "at-boot")
        .and_then(|it| named(reader, &it, NOT_ITS, postures, &[]).then_some(it.value));
    when::check(reader, table, postures, found.as_deref());
    found
}

/// Reports expectations about postures that the host does not have. Those of labels are for hosts that have them.
pub(super) fn check_expected(reader: &mut Reader<'_>, table: &Table<'_, '_>, host: &Host) {
    for text in expected(reader, table) {
        named(reader, &text, NOT_ITS, &host.postures, &[ALWAYS, NO_POSTURE]);
    }
}

/// Reports expectations of a label about postures that no host with that label has: nobody would prove them.
pub(super) fn check_shared<'h>(
    reader: &mut Reader<'_>,
    table: &Table<'_, '_>,
    hosts: impl Iterator<Item = &'h Host>,
) {
    let mut hosts = hosts.peekable();
    if hosts.peek().is_none() {
        return;
    }
    let postures: Vec<_> = hosts.flat_map(|it| &it.postures).collect();
    for text in expected(reader, table) {
        let nobodys = "no host with this label has a posture";
        named(reader, &text, nobodys, postures.iter().copied(), &[ALWAYS, NO_POSTURE]);
    }
}

/// The postures that expectations name; what is wrong with them otherwise has been reported.
fn expected(reader: &Reader<'_>, table: &Table<'_, '_>) -> Vec<Text> {
    let tables = table.tables(&mut Reader::new(reader.source), "expect");
    tables.iter().flat_map(|it| it.list(reader, "posture").unwrap_or_default()).collect()
}

/// Whether that names one of the postures; if not, that is reported.
fn named<'p>(
    reader: &mut Reader<'_>,
    text: &Text,
    unknown: &str,
    postures: impl IntoIterator<Item = &'p Posture>,
    also: &[&str],
) -> bool {
    let names: Vec<_> = postures.into_iter().map(|it| it.name.as_str()).collect();
    if names.iter().chain(also).any(|it| *it == text.value) {
        return true;
    }
    let origin = reader.origin(text.inner());
    let message = format!("{unknown} `{}`", text.value.escape_debug());
    let problem = Diagnostic::error("unknown-posture", message, origin);
    reader.report(match nearest(&text.value, names.iter().copied()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None if names.is_empty() => problem.expected("it has none: [host.NAME.posture.POSTURE]"),
        None => problem.expected(format!("its postures are: {}", names.join(", "))),
    });
    false
}
