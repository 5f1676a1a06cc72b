//! The places, services, bundles, labels and hosts of a policy.

use crate::store::snapshots;
use crate::vocabulary as say;
use crate::{Written, grouped};
use serde::Serialize;
use std::net::IpAddr;
use std::path::Path;
use tipstaff_core::policy::{Data, Origin, Policy};
use tipstaff_core::space::AddressSet;

/// Named things of the policy.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NameList {
    /// Whether these are places or services.
    pub what: say::Named,
    /// They, in the order written.
    pub names: Vec<NameWords>,
}

/// A name, and what it stands for.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct NameWords {
    /// The name as the policy writes it.
    pub name: String,
    /// What it stands for.
    pub holds: String,
    /// The terms that a service is made of, and what they are for; none for a place.
    pub ports: Vec<PortWords>,
    /// The files that a place takes addresses from; `null` if it takes none from any.
    pub data: Option<DataWords>,
    /// How often it is used.
    pub uses: usize,
    /// Why it is there, or what the registry says about it.
    pub why: Option<String>,
    /// Where it is written; `null` for what the language knows by itself.
    pub origin: Option<Written>,
}

/// A term of a service.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PortWords {
    /// The traffic term, or the name of another service.
    pub term: String,
    /// What it is for; `null` if that is not written.
    pub meaning: Option<String>,
}

/// The files of a place.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct DataWords {
    /// What it comes from, in one line.
    pub of: String,
    /// How many ranges of addresses they had when they were read last; `null` if they never were.
    pub ranges: Option<usize>,
    /// Since when they say that (RFC 3339).
    pub taken: Option<String>,
    /// When they were read last (RFC 3339).
    pub read: Option<String>,
    /// How many ranges came when that changed last.
    pub came: Option<usize>,
    /// How many went.
    pub gone: Option<usize>,
}

/// Lists the places of the policy at that path.
pub fn places(policy: &Policy, path: &Path) -> NameList {
    let names = policy.places.iter().map(|place| NameWords {
        name: place.name.clone(),
        holds: match &place.data {
            // Thousands of them say nothing to anybody.
            Some(_) => format!("{} ranges", grouped(ranges(&place.addresses))),
            None => place.addresses.to_string(),
        },
        ports: Vec::new(),
        data: place.data.as_ref().map(|it| data(it, &place.name, path)),
        uses: uses(policy, &place.name),
        why: place.why.clone(),
        origin: Some((&place.origin).into()),
    });
    NameList { what: say::Named::Place, names: names.collect() }
}

fn ranges(set: &AddressSet) -> u64 {
    (set.v4.ranges().len() + set.v6.ranges().len()) as u64
}

/// What the files of a place said last, and when they were read.
pub(super) fn data(data: &Data, place: &str, path: &Path) -> DataWords {
    let said = data.snapshot.as_ref();
    DataWords {
        of: data.definition(),
        ranges: said.map(|it| it.lines),
        taken: said.map(|it| it.taken.to_string()),
        read: said.and_then(|_| snapshots::read_at(path, place)).map(|it| it.to_string()),
        came: said.map(|it| it.changed.0),
        gone: said.map(|it| it.changed.1),
    }
}

/// The machines of a policy.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HostList {
    /// They, in the order written.
    pub hosts: Vec<HostWords>,
}

/// A machine of the policy.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HostWords {
    /// The name as the policy writes it.
    pub name: String,
    /// Its own addresses.
    pub addresses: Vec<IpAddr>,
    /// Its labels.
    pub labels: Vec<String>,
    /// Whom it turns away, as written, its labels' among them.
    pub turned_away: Vec<String>,
    /// How many rules it has, those of bundles and labels among them.
    pub rules: usize,
    /// Where it is written.
    pub origin: Written,
}

/// Lists the hosts of a policy.
pub fn hosts(policy: &Policy) -> HostList {
    let hosts = policy.hosts.iter().map(|host| HostWords {
        name: host.name.clone(),
        addresses: host.addresses.clone(),
        labels: host.labels.clone(),
        turned_away: host.turned_away.iter().flat_map(|it| it.terms.clone()).collect(),
        rules: host.rules.len(),
        origin: (&host.origin).into(),
    });
    HostList { hosts: hosts.collect() }
}

/// Lists the bundles of a policy.
pub fn bundles(policy: &Policy) -> NameList {
    let list =
        policy.bundles.iter().map(|it| of_rules(policy, &it.name, &it.rules, &it.why, &it.origin));
    NameList { what: say::Named::Bundle, names: list.collect() }
}

/// Lists the labels of a policy that have a section.
pub fn labels(policy: &Policy) -> NameList {
    let list =
        policy.labels.iter().map(|it| of_rules(policy, &it.name, &it.rules, &it.why, &it.origin));
    NameList { what: say::Named::Label, names: list.collect() }
}

/// What holds rules.
fn of_rules(
    policy: &Policy,
    name: &str,
    rules: &[String],
    why: &Option<String>,
    origin: &Origin,
) -> NameWords {
    NameWords {
        name: name.to_owned(),
        holds: rules.join(", "),
        ports: Vec::new(),
        data: None,
        uses: uses(policy, name),
        why: why.clone(),
        origin: Some(origin.into()),
    }
}

/// Lists the services of a policy.
pub fn services(policy: &Policy) -> NameList {
    let names = policy.services.iter().map(|service| NameWords {
        name: service.name.clone(),
        holds: service.traffic.to_string(),
        data: None,
        ports: service
            .ports
            .iter()
            .map(|it| PortWords { term: it.term.clone(), meaning: it.meaning.clone() })
            .collect(),
        uses: uses(policy, &service.name),
        why: service.why.clone(),
        origin: Some((&service.origin).into()),
    });
    NameList { what: say::Named::Service, names: names.collect() }
}

fn uses(policy: &Policy, name: &str) -> usize {
    let mut places: Vec<_> =
        policy.uses.iter().filter(|it| it.name == name).map(|it| &it.origin).collect();
    places.sort_by_key(|origin| (origin.file.clone(), origin.span.start));
    places.dedup();
    places.len()
}

/// Services that a word finds: by name, port number or description, the policy's own first.
pub fn find_services(policy: Option<&Policy>, word: &str) -> NameList {
    let wanted = word.to_lowercase();
    let number: Option<u16> = word.parse().ok();
    let own = policy.map(|it| &it.services[..]).unwrap_or_default();
    let mut list =
        policy.map_or(NameList { what: say::Named::Service, names: Vec::new() }, services);
    list.names.retain(|it| {
        let service = own.iter().find(|service| service.name == it.name);
        let traffic = service.map(|service| &service.traffic);
        it.name.contains(&wanted)
            || it.why.as_ref().is_some_and(|why| why.to_lowercase().contains(&wanted))
            || it.ports.iter().any(|port| {
                port.meaning.as_ref().is_some_and(|it| it.to_lowercase().contains(&wanted))
            })
            || number.zip(traffic).is_some_and(|(port, traffic)| traffic.has_port(port))
    });
    for known in tipstaff_core::policy::KNOWN_SERVICES.iter() {
        let traffic = known.traffic();
        let by_number = number.is_some_and(|port| traffic.has_port(port));
        let by_word =
            known.name.contains(&wanted) || known.description.to_lowercase().contains(&wanted);
        if by_number || number.is_none() && by_word {
            list.names.push(NameWords {
                name: known.name.to_owned(),
                holds: traffic.to_string(),
                ports: Vec::new(),
                data: None,
                uses: 0,
                why: Some(known.description.to_owned()),
                origin: None,
            });
        }
    }
    list
}
