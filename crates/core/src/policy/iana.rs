//! The built-in table of service names.

use crate::space::TrafficSet;
use std::sync::LazyLock;

const TABLE: &str = include_str!("../../data/services.tsv");

/// A service of the built-in table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownService {
    /// Its name in the registry of the IANA.
    pub name: &'static str,
    /// The traffic terms that it stands for, such as `22/tcp`.
    pub terms: Vec<&'static str>,
    /// What it is, in a few words.
    pub description: &'static str,
}

impl KnownService {
    /// The traffic that it stands for.
    #[must_use]
    pub fn traffic(&self) -> TrafficSet {
        let sets = self.terms.iter().filter_map(|term| TrafficSet::of_ports(term));
        sets.fold(TrafficSet::empty(), |all, set| all.union(&set))
    }
}

/// The services, by port.
///
/// # References
/// RFC 6335; the IANA registry of service names and transport protocol port numbers.
pub static KNOWN_SERVICES: LazyLock<Vec<KnownService>> = LazyLock::new(|| {
    let lines = TABLE.lines().filter(|line| !line.starts_with('#'));
    lines.filter_map(service).collect()
});

fn service(line: &'static str) -> Option<KnownService> {
    let mut fields = line.split('\t');
    let (name, terms, description) = (fields.next()?, fields.next()?, fields.next()?);
    Some(KnownService { name, terms: terms.split(' ').collect(), description })
}

/// The service of that name.
#[must_use]
pub(crate) fn known_service(name: &str) -> Option<&'static KnownService> {
    KNOWN_SERVICES.iter().find(|service| service.name == name)
}

#[cfg(test)]
mod tests {
    use super::{KNOWN_SERVICES, TABLE, known_service};
    use std::collections::HashSet;

    #[test]
    fn every_line_of_the_table_is_a_service_with_ports() {
        let lines = TABLE.lines().filter(|line| !line.starts_with('#')).count();
        assert_eq!(KNOWN_SERVICES.len(), lines);
        assert!(lines >= 300, "{lines}");
        let names: HashSet<&str> = KNOWN_SERVICES.iter().map(|it| it.name).collect();
        assert_eq!(names.len(), lines, "each name once");
        for service in KNOWN_SERVICES.iter() {
            assert!(!service.traffic().is_empty(), "{}", service.name);
            let good =
                |char: char| char.is_ascii_lowercase() || char.is_ascii_digit() || char == '-';
            assert!(service.name.chars().all(good), "{}", service.name);
            assert!(!service.description.is_empty());
        }
        let terms = |name| known_service(name).map(|it| it.traffic().to_string());
        assert_eq!(terms("domain").as_deref(), Some("53/tcp+udp"));
        assert_eq!(terms("x11").as_deref(), Some("6000-6063/tcp"));
        assert_eq!(terms("http-alt").as_deref(), Some("591/tcp, 8080/tcp"));
    }
}
