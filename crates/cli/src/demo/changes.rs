//! What the mended policy changed, seen from outside.

use serde::Serialize;
use std::net::IpAddr;
use tipstaff_app::reach::Report;

/// What one caller meets at one port.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Sight {
    /// The host called.
    pub host: String,
    /// Port and protocol.
    pub port: String,
    /// From where: the place.
    pub from: String,
    /// The caller's own address.
    pub source: IpAddr,
    /// What was met.
    pub met: &'static str,
}

impl Sight {
    /// The IP version.
    pub fn version(&self) -> &'static str {
        if self.source.is_ipv4() { "IPv4" } else { "IPv6" }
    }
}

/// What changed for one caller at one port.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Change {
    /// The host called.
    pub host: String,
    /// Port and protocol.
    pub port: String,
    /// From where.
    pub from: String,
    /// The IP versions for which it changed.
    pub versions: Vec<&'static str>,
    /// What was met before.
    pub before: &'static str,
    /// What is met now.
    pub after: &'static str,
}

/// Everything that real probes met at a host's listeners.
pub fn sights(report: &Report) -> Vec<Sight> {
    let mut sights = Vec::new();
    for entry in &report.listeners {
        for from in &entry.from {
            for probe in from.parts.iter().flat_map(|part| &part.probes) {
                sights.push(Sight {
                    host: report.host.clone(),
                    port: format!("{}/{}", entry.port, entry.protocol),
                    from: from.place.clone(),
                    source: probe.source,
                    met: probe.met.as_str(),
                });
            }
        }
    }
    sights
}

/// The sights that differ, the two IP versions together where they changed alike.
pub fn changes(before: &[Sight], after: &[Sight]) -> Vec<Change> {
    let mut changes: Vec<Change> = Vec::new();
    for old in before {
        let same = |new: &&Sight| {
            (&new.host, &new.port, &new.from, new.source)
                == (&old.host, &old.port, &old.from, old.source)
        };
        let Some(new) = after.iter().find(same).filter(|new| new.met != old.met) else {
            continue;
        };
        let twin = changes.iter_mut().find(|it| {
            (&it.host, &it.port, &it.from, it.before, it.after)
                == (&old.host, &old.port, &old.from, old.met, new.met)
        });
        match twin {
            Some(twin) if twin.versions.contains(&old.version()) => {}
            Some(twin) => twin.versions.push(old.version()),
            None => changes.push(Change {
                host: old.host.clone(),
                port: old.port.clone(),
                from: old.from.clone(),
                versions: vec![old.version()],
                before: old.met,
                after: new.met,
            }),
        }
    }
    changes
}

#[cfg(test)]
mod tests {
    use super::{Sight, changes};

    fn sight(port: &str, version: &str, met: &'static str) -> Sight {
        let (host, from) = ("sluice".into(), "curators".into());
        let source = if version == "IPv4" { "198.51.100.7" } else { "2001:db8:51::7" };
        let source = source.parse().expect("an address");
        Sight { host, port: port.into(), from, source, met }
    }

    #[test]
    fn only_what_differs_is_told_and_both_versions_together() {
        let before = [
            sight("2202/tcp", "IPv4", "silent"),
            sight("2202/tcp", "IPv6", "silent"),
            sight("443/tcp", "IPv4", "open"),
        ];
        let after = [
            sight("2202/tcp", "IPv4", "open"),
            sight("2202/tcp", "IPv6", "open"),
            sight("443/tcp", "IPv4", "open"),
        ];
        let found = changes(&before, &after);
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].versions, ["IPv4", "IPv6"]);
        assert_eq!((found[0].before, found[0].after), ("silent", "open"));
    }
}
