//! Text to [`Policy`]: every mistake in the file is found in one run.

mod bundle;
mod common;
mod ends;
mod expect;
mod fleet;
mod halves;
mod host;
mod label;
mod logging;
mod owners;
mod places;
mod posture;
mod published;
mod rule;
mod services;
mod settings;
mod turned_away;
mod when;

pub use turned_away::who_is_turned_away;

use super::model::{Host, Place, Policy};
use super::table::{Reader, Table, Text};
use super::terms::{self, Names};
use super::{Diagnostic, Fleet, Origin, Source};
use crate::hands::{Hands, OneByOne};
use crate::space::{AddressSet, TrafficSet};
use bundle::Bundles;
use halves::Half;
use host::host;
use label::Labels;
use places::Places;
use services::Services;
use std::collections::HashMap;
use toml::Spanned;
use toml::de::DeTable;

/// The edition of the language that this version reads.
const EDITION: &str = "1";

/// Reads a policy of one file.
///
/// # Errors
/// As for [`read_all`].
pub fn read(source: &Source) -> Result<Policy, Vec<Diagnostic>> {
    read_all(std::slice::from_ref(source))
}

/// Reads a policy of several files, in the order given. Names hold in all of them, and each is
/// defined once. Among the sources may be what places held when their files were read last.
///
/// # Errors
/// Everything that is wrong with the texts, in their order. Where one is not TOML at all, only
/// the first mistake in each such text is given, since the rest would be echoes of it.
///
/// # References
/// TOML 1.1, <https://toml.io/en/v1.1.0>.
pub fn read_all(sources: &[Source]) -> Result<Policy, Vec<Diagnostic>> {
    read_by(&OneByOne, sources)
}

/// Likewise, with so many hands.
///
/// # Errors
/// As for [`read_all`].
pub fn read_by(hands: &impl Hands, sources: &[Source]) -> Result<Policy, Vec<Diagnostic>> {
    let (of_places, files) = apart(sources);
    let halves: Vec<Option<Half>> = files.iter().map(|it| Half::of(&it.text)).collect();
    let roots = parsed(hands, &files, &halves)?;
    let Some(&(first, _)) = roots.first() else { return Err(vec![no_host()]) };
    let mut reader = Reader::new(first);
    let mut files: Vec<(&Source, Table<'_, '_>)> = Vec::new();
    for (source, root) in &roots {
        reader.source = source;
        let file = Table::check(&mut reader, "", root.get_ref(), 0..0);
        edition(&mut reader, &file);
        files.push((source, file));
    }
    let (mut named_places, mut named_services) = (Places::default(), Services::default());
    let (mut tables, mut bundles) = (Bundles::new(), Vec::new());
    let (mut shared, mut labels) = (Labels::default(), Vec::new());
    for (source, file) in &files {
        reader.source = source;
        named_places.read(&mut reader, file);
        named_services.read(&mut reader, file);
        bundles.extend(tables.read(&mut reader, file));
        labels.extend(shared.read(&mut reader, file));
    }
    let services = named_services.resolve(&mut reader);
    let places = named_places.resolve(&mut reader, &services, &of_places);
    once(&mut reader, "place", places.iter().map(|it| (&it.name, &it.origin)));
    once(&mut reader, "service", services.iter().map(|it| (&it.name, &it.origin)));
    once(&mut reader, "label", labels.iter().map(|it| (&it.name, &it.origin)));
    once(&mut reader, "bundle", bundles.iter().map(|it| (&it.name, &it.origin)));
    let names = Names {
        places: &places,
        services: &services,
        this_host: None,
        on_link: None,
        moving: false,
        any_host: false,
        interfaces: None,
    };
    for (source, _) in &files {
        reader.source = source;
        tables.check(&mut reader, &names);
        shared.check(&mut reader, &names, &tables);
    }
    let mut hosts: Vec<Host> = Vec::new();
    for (source, file) in &files {
        reader.source = source;
        for (name, table) in file.named(&mut reader, "host") {
            hosts.push(host(hands, &mut reader, &names, (&tables, &shared), &name, &table));
        }
    }
    for (source, _) in &files {
        reader.source = source;
        shared.check_postures(&mut reader, &hosts);
    }
    once(&mut reader, "host", hosts.iter().map(|it| (&it.name, &it.origin)));
    if hosts.is_empty() && !files.iter().any(|(_, file)| file.has("host")) {
        reader.report(no_host());
    }
    let between = between(&mut reader, &names, &hosts, &files);
    let problems = reader.problems;
    if problems.is_empty() {
        let uses = reader.uses;
        let sources = used(sources, &places);
        return Ok(Policy {
            sources,
            places,
            services,
            bundles,
            labels,
            hosts,
            fleet: between,
            uses,
        });
    }
    Err(in_order(problems, sources))
}

/// What is wrong, in the order of the texts.
fn in_order(mut problems: Vec<Diagnostic>, sources: &[Source]) -> Vec<Diagnostic> {
    let file_of = |problem: &Diagnostic| {
        let label = problem.primary.as_ref()?;
        sources.iter().position(|source| source.name == label.origin.file)
    };
    problems.sort_by_key(|problem| (file_of(problem), problem.offset()));
    problems
}

/// What the files say of all hosts together.
fn between<'s>(
    reader: &mut Reader<'s>,
    names: &Names<'_>,
    hosts: &[Host],
    files: &[(&'s Source, Table<'_, '_>)],
) -> Fleet {
    let mut fleet = Fleet::default();
    for (source, file) in files {
        reader.source = source;
        fleet.add(fleet::fleet(reader, names, hosts, file));
    }
    fleet
}

/// The files as TOML.
///
/// # Errors
/// The first mistake of each that is none.
fn parsed<'s>(
    hands: &impl Hands,
    files: &[&'s Source],
    halves: &'s [Option<Half>],
) -> Result<Vec<(&'s Source, Spanned<DeTable<'s>>)>, Vec<Diagnostic>> {
    let (mut roots, mut broken) = (Vec::new(), Vec::new());
    for (source, half) in files.iter().zip(halves) {
        match halves::parse(hands, source.text.as_ref(), half.as_ref()) {
            Ok(root) => roots.push((*source, root)),
            Err(error) => broken.push(syntax(source, &error)),
        }
    }
    if broken.is_empty() { Ok(roots) } else { Err(broken) }
}

/// What places held last, and the files of the policy.
fn apart(sources: &[Source]) -> (Vec<&Source>, Vec<&Source>) {
    sources.iter().partition(|it| it.place.is_some())
}

/// The sources without snapshots that no place has any use for: those are no part of what the policy says.
fn used(sources: &[Source], places: &[Place]) -> Vec<Source> {
    let snapshot = |place: &Place| place.data.as_ref().is_some_and(|it| it.snapshot.is_some());
    let of = |name: &str| places.iter().any(|it| it.name == name && snapshot(it));
    let is_used = |it: &&Source| it.place.as_deref().is_none_or(of);
    sources.iter().filter(is_used).cloned().collect()
}

fn no_host() -> Diagnostic {
    Diagnostic::general("no-host", "the policy has no host")
        .help("add a section such as [host.sluice] with `addresses` and rules")
}

/// Reports names that more than one file defines; within a file the format sees to that.
fn once<'n>(
    reader: &mut Reader<'_>,
    what: &str,
    names: impl Iterator<Item = (&'n String, &'n Origin)>,
) {
    let mut first_of: HashMap<&String, &Origin> = HashMap::new();
    for (name, origin) in names {
        if let Some(first) = first_of.get(name) {
            let message = format!("there are two {what}s named `{}`", name.escape_debug());
            let problem = Diagnostic::error("duplicate-name", message, origin.clone())
                .expected("each name is defined once, in all files together")
                .help(format!("the first one is at {first}"));
            reader.problems.push(problem);
        } else {
            first_of.insert(name, origin);
        }
    }
}

/// Reads one traffic term that stands alone, such as an argument of a command.
///
/// # Errors
/// What is wrong with it.
pub fn read_traffic(policy: &Policy, source: &Source) -> Result<TrafficSet, Vec<Diagnostic>> {
    let mut reader = Reader::new(source);
    let set = terms::traffic(&mut reader, &policy.services, &Text::whole(source));
    set.ok_or(reader.problems)
}

/// Reads one sender or receiver that stands alone: a place of the policy, or an address.
///
/// # Errors
/// What is wrong with it.
pub fn read_addresses(policy: &Policy, source: &Source) -> Result<AddressSet, Vec<Diagnostic>> {
    let mut reader = Reader::new(source);
    let names = Names {
        places: &policy.places,
        services: &policy.services,
        this_host: None,
        on_link: None,
        moving: false,
        any_host: false,
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
