//! Services: named ports, which may be made of other services.

use super::super::model::{Service, ServicePort};
use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, TRAFFIC_WORDS};
use super::super::{Accepted, Diagnostic, Origin, Source, known_service};
use super::common::{accepted, check_name, described};
use crate::space::TrafficSet;
use std::collections::HashMap;

/// Services of services of services, and so on: nobody follows more steps than this.
const DEEPEST: usize = 32;

/// The services of all files, as written; what they stand for depends on each other.
#[derive(Default)]
pub(super) struct Services<'t> {
    written: Vec<Written<'t>>,
}

struct Written<'t> {
    name: Text,
    ports: Vec<(Text, Option<Text>)>,
    why: Option<String>,
    accepted: Vec<Accepted>,
    origin: Origin,
    /// The text it stands in.
    source: &'t Source,
}

/// How far the services are worked out.
struct Progress {
    /// Those that are, and what they stand for.
    done: Vec<Service>,
    /// Where in `done` each of them is.
    at: HashMap<String, usize>,
    /// Those that are being worked out, outermost first.
    open: Vec<String>,
}

impl<'t> Services<'t> {
    /// Takes in those of one file.
    pub(super) fn read(&mut self, reader: &mut Reader<'t>, file: &Table<'_, '_>) {
        for (name, table) in file.named(reader, "service") {
            check_name(reader, "service", &name);
            if TRAFFIC_WORDS.contains(&name.value.as_str()) {
                let origin = reader.origin(name.span.clone());
                let message = format!("`{}` is a word of the language", name.value);
                reader.report(
                    Diagnostic::error("reserved-name", message, origin)
                        .expected("choose another name"),
                );
            }
            self.written.push(Written {
                ports: described(reader, &table, "ports"),
                why: table.text(reader, "why").map(|text| text.value),
                accepted: accepted(reader, &table),
                origin: reader.origin(name.span.clone()),
                source: reader.source,
                name,
            });
        }
    }

    /// Works out what they stand for, in the order written.
    pub(super) fn resolve(self, reader: &mut Reader<'t>) -> Vec<Service> {
        let mut progress = Progress { done: Vec::new(), at: HashMap::new(), open: Vec::new() };
        let by_name: HashMap<&str, &Written<'t>> =
            self.written.iter().rev().map(|it| (it.name.value.as_str(), it)).collect();
        let mut services: Vec<Service> = Vec::new();
        for written in &self.written {
            let twice = services.iter().any(|it| it.name == written.name.value);
            if twice {
                // The second of a name is told to be one; the first is what is used.
                progress.at.remove(&written.name.value);
            }
            work_out(reader, &by_name, written, &mut progress);
            let found = progress.at.get(&written.name.value).and_then(|&at| progress.done.get(at));
            services.extend(found.cloned());
        }
        services
    }
}

fn work_out<'t>(
    reader: &mut Reader<'t>,
    by_name: &HashMap<&str, &Written<'t>>,
    written: &Written<'t>,
    progress: &mut Progress,
) {
    let name = &written.name.value;
    if progress.at.contains_key(name) {
        return;
    }
    progress.open.push(name.clone());
    let (mut traffic, mut ports) = (TrafficSet::empty(), Vec::new());
    for (term, meaning) in &written.ports {
        reader.source = written.source;
        let mut port = |traffic: &TrafficSet| {
            ports.push(ServicePort {
                term: term.value.clone(),
                meaning: meaning.as_ref().map(|it| it.value.clone()),
                traffic: traffic.clone(),
            });
        };
        // Its own name inside it can only be meant as that of the registry.
        if term.value == *name
            && let Some(known) = known_service(name)
        {
            port(&known.traffic());
            traffic = traffic.union(&known.traffic());
            continue;
        }
        if let Some(other) = by_name.get(term.value.as_str()) {
            if let Some(problem) = endless(reader, progress, term) {
                reader.report(problem);
                continue;
            }
            work_out(reader, by_name, other, progress);
            reader.source = written.source;
        }
        if let Some(set) = terms::traffic(reader, &progress.done, term) {
            port(&set);
            traffic = traffic.union(&set);
        }
    }
    progress.open.pop();
    progress.at.insert(name.clone(), progress.done.len());
    progress.done.push(Service {
        name: name.clone(),
        traffic,
        ports,
        why: written.why.clone(),
        accepted: written.accepted.clone(),
        origin: written.origin.clone(),
    });
}

/// What is wrong with a service that leads back to one that is being worked out, or too far.
fn endless(reader: &Reader<'_>, progress: &Progress, term: &Text) -> Option<Diagnostic> {
    let origin = reader.origin(term.inner());
    if progress.open.contains(&term.value) {
        let path = format!("{} > {}", progress.open.join(" > "), term.value);
        return Some(
            Diagnostic::error("service-cycle", "this service is made of itself", origin)
                .expected(format!("it leads back: {path}")),
        );
    }
    (progress.open.len() >= DEEPEST).then(|| {
        Diagnostic::error("service-depth", "services are made of services too often", origin)
            .expected(format!("at most {DEEPEST} steps, so that people can follow them"))
    })
}
