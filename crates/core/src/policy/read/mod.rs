//! Text to [`Policy`]: every mistake in the file is found in one run.

mod bundle;
mod common;
mod host;
mod rule;

use super::model::{Host, Place, Policy, Service};
use super::table::{Reader, Table, Text};
use super::terms::{self, BUILT_IN_PLACES, Names, TRAFFIC_WORDS};
use super::{Diagnostic, Source};
use crate::space::{AddressSet, TrafficSet};
use bundle::Bundles;
use common::{check_name, nonempty_list};
use host::host;
use toml::de::DeTable;

/// The edition of the language that this version reads.
const EDITION: &str = "1";

/// Reads a policy.
///
/// # Errors
/// Everything that is wrong with the text, in the order of the text. When it is not TOML at all,
/// only the first mistake is given, since the rest would be echoes of it.
///
/// # References
/// TOML 1.1, <https://toml.io/en/v1.1.0>.
pub fn read(source: &Source) -> Result<Policy, Vec<Diagnostic>> {
    let text = source.text.as_ref();
    let root = match DeTable::parse(text) {
        Ok(root) => root,
        Err(error) => return Err(vec![syntax(source, &error)]),
    };
    let mut reader = Reader { source, problems: Vec::new() };
    let file = Table::check(&mut reader, "", root.get_ref(), 0..0);
    edition(&mut reader, &file);
    let places = places(&mut reader, &file);
    let services = services(&mut reader, &file);
    let names = Names { places: &places, services: &services, this_host: None, interfaces: None };
    let (tables, bundles) = Bundles::read(&mut reader, &names, &file);
    let sections = file.named(&mut reader, "host");
    let hosts: Vec<Host> = sections
        .into_iter()
        .map(|(name, table)| host(&mut reader, &names, &tables, &name, &table))
        .collect();
    if hosts.is_empty() && !file.has("host") {
        reader.report(
            Diagnostic::general("no-host", "the policy has no host")
                .help("add a section such as [host.sluice] with `addresses` and rules"),
        );
    }
    let mut problems = reader.problems;
    if problems.is_empty() {
        return Ok(Policy { sources: vec![source.clone()], places, services, bundles, hosts });
    }
    problems.sort_by_key(Diagnostic::offset);
    Err(problems)
}

/// Reads one traffic term that stands alone, such as an argument of a command.
///
/// # Errors
/// What is wrong with it.
pub fn read_traffic(policy: &Policy, source: &Source) -> Result<TrafficSet, Vec<Diagnostic>> {
    let mut reader = Reader { source, problems: Vec::new() };
    let set = terms::traffic(&mut reader, &policy.services, &Text::whole(source));
    set.ok_or(reader.problems)
}

/// Reads one sender or receiver that stands alone: a place of the policy, or an address.
///
/// # Errors
/// What is wrong with it.
pub fn read_addresses(policy: &Policy, source: &Source) -> Result<AddressSet, Vec<Diagnostic>> {
    let mut reader = Reader { source, problems: Vec::new() };
    let names = Names {
        places: &policy.places,
        services: &policy.services,
        this_host: None,
        interfaces: None,
    };
    let set = terms::addresses(&mut reader, &names, &[Text::whole(source)]);
    if reader.problems.is_empty() { Ok(set) } else { Err(reader.problems) }
}

fn syntax(source: &Source, error: &toml::de::Error) -> Diagnostic {
    let length = source.text.len();
    let span = error.span().unwrap_or(length..length);
    let message = error.message().lines().next().unwrap_or("this is not TOML").to_owned();
    let is_duplicate = message == "duplicate key";
    let problem = Diagnostic::error("syntax", message, source.origin(span));
    if is_duplicate { problem.expected("each name is defined once") } else { problem }
}

fn edition(reader: &mut Reader<'_>, file: &Table<'_, '_>) {
    let (Some(found), Some(span)) = (file.number("edition"), file.value_span("edition")) else {
        return;
    };
    if found != EDITION {
        let origin = reader.origin(span);
        reader.report(
            Diagnostic::error("edition", format!("edition {found} is not known"), origin)
                .expected(format!("this version reads edition {EDITION}")),
        );
    }
}

fn places(reader: &mut Reader<'_>, file: &Table<'_, '_>) -> Vec<Place> {
    let mut places = Vec::new();
    for (name, table) in file.named(reader, "place") {
        check_name(reader, "place", &name);
        if BUILT_IN_PLACES.contains(&name.value.as_str()) {
            let origin = reader.origin(name.span.clone());
            let message = format!("`{}` is a place of the language", name.value);
            reader.report(
                Diagnostic::error("reserved-name", message, origin).expected("choose another name"),
            );
        }
        let blocks = nonempty_list(reader, &table, "addresses");
        let addresses =
            blocks.iter().filter_map(|term| terms::block_or_range(reader, term)).collect();
        places.push(Place {
            addresses,
            why: table.text(reader, "why").map(|text| text.value),
            origin: reader.origin(name.span),
            name: name.value,
        });
    }
    places
}

fn services(reader: &mut Reader<'_>, file: &Table<'_, '_>) -> Vec<Service> {
    let mut services = Vec::new();
    for (name, table) in file.named(reader, "service") {
        check_name(reader, "service", &name);
        if TRAFFIC_WORDS.contains(&name.value.as_str()) {
            let origin = reader.origin(name.span.clone());
            let message = format!("`{}` is a word of the language", name.value);
            reader.report(
                Diagnostic::error("reserved-name", message, origin).expected("choose another name"),
            );
        }
        let mut traffic = TrafficSet::empty();
        for term in nonempty_list(reader, &table, "ports") {
            // A service cannot be made of services: there is one place to look.
            if let Some(set) = terms::traffic(reader, &[], &term) {
                traffic = traffic.union(&set);
            }
        }
        services.push(Service {
            traffic,
            why: table.text(reader, "why").map(|text| text.value),
            origin: reader.origin(name.span),
            name: name.value,
        });
    }
    services
}
