//! Postures of a host.

use super::super::table::{Reader, Table, Text};
use super::super::taken::{ALWAYS, NO_POSTURE, SHUT};
use super::super::terms::Names;
use super::super::{Diagnostic, Posture, nearest};
use super::bundle::{Bundles, Unfolded};
use super::common::{accepted, check_name};
use super::settings::Settings;
use super::turned_away::turned_away;
use crate::policy::Host;

/// Names that say something else where a posture is named.
const TAKEN: [&str; 3] = [ALWAYS, NO_POSTURE, SHUT];

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
    let text = table.text(reader, "at-boot")?;
    named(reader, &text, postures, &[]).then_some(text.value)
}

/// Reports expectations about postures that the host does not have. Those of labels are for hosts that have them.
pub(super) fn check_expected(reader: &mut Reader<'_>, table: &Table<'_, '_>, host: &Host) {
    for table in table.tables(&mut Reader::new(reader.source), "expect") {
        for text in table.list(reader, "posture").unwrap_or_default() {
            named(reader, &text, &host.postures, &[ALWAYS, NO_POSTURE]);
        }
    }
}

/// Whether that names a posture of the host; if not, that is reported.
fn named(reader: &mut Reader<'_>, text: &Text, postures: &[Posture], also: &[&str]) -> bool {
    let names = || postures.iter().map(|it| it.name.as_str());
    if names().chain(also.iter().copied()).any(|it| it == text.value) {
        return true;
    }
    let origin = reader.origin(text.inner());
    let message = format!("the host has no posture `{}`", text.value.escape_debug());
    let problem = Diagnostic::error("unknown-posture", message, origin);
    reader.report(match nearest(&text.value, names()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None if postures.is_empty() => problem.expected("it has none: [host.NAME.posture.POSTURE]"),
        None => problem
            .expected(format!("its postures are: {}", names().collect::<Vec<_>>().join(", "))),
    });
    false
}
