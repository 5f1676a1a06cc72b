//! What names stand for: which section is a machine's, what ports are for.

use super::model::{Host, Policy};
use crate::space::{PortProtocol, RangeSet};

impl Policy {
    /// Whether a host of the policy is called so, or has that label.
    #[must_use]
    pub fn is_named(&self, host: &str, word: &str) -> bool {
        host == word || self.host(host).is_some_and(|it| it.labels.iter().any(|it| it == word))
    }

    /// The sections that a machine of that host name could mean: the one of that name, or else all that
    /// name it among their `names`.
    #[must_use]
    pub fn host_for(&self, name: &str) -> Vec<&Host> {
        if let Some(own) = self.host(name) {
            return vec![own];
        }
        let fits = |host: &&Host| host.names.iter().any(|it| matches(it, name));
        self.hosts.iter().filter(fits).collect()
    }
}

impl Policy {
    /// What the ports from `first` to `last` of a protocol are for, as far as services say so of single
    /// ports or ranges; each once, in the order written.
    #[must_use]
    pub fn meanings(&self, protocol: PortProtocol, first: u16, last: u16) -> Vec<&str> {
        let wanted = RangeSet::from_ranges([(first, last)]);
        let mut found = Vec::new();
        for port in self.services.iter().flat_map(|it| &it.ports) {
            let is_here = !port.traffic.ports[protocol].intersection(&wanted).is_empty();
            let meaning = port.meaning.as_deref().filter(|it| is_here && !it.is_empty());
            found.extend(meaning.filter(|it| !found.contains(it)));
        }
        found
    }
}

/// Whether a pattern, in which `*` stands for any letters, fits a name. What stands between two stars is
/// looked for as early as it can be, so that the time grows with the lengths only.
fn matches(pattern: &str, name: &str) -> bool {
    let Some((before, behind)) = pattern.split_once('*') else { return pattern == name };
    let Some(mut rest) = name.strip_prefix(before) else { return false };
    let (middle, end) = behind.rsplit_once('*').unwrap_or(("", behind));
    for part in middle.split('*') {
        let Some((_, after)) = rest.split_once(part) else { return false };
        rest = after;
    }
    rest.ends_with(end)
}

#[cfg(test)]
mod tests {
    use super::matches;

    #[test]
    fn a_star_stands_for_any_letters() {
        for (pattern, fits, misses) in [
            ("web-*", vec!["web-1", "web-", "web-a-b"], vec!["web", "aweb-1", "Web-1"]),
            ("*-reader", vec!["a-reader", "-reader"], vec!["reader", "a-readers"]),
            ("a*b*c", vec!["abc", "axbyc", "abbc", "abcbc"], vec!["ab", "acb", "abcd"]),
            ("*", vec!["", "anything"], vec![]),
            ("bench", vec!["bench"], vec!["bench1", ""]),
            ("**", vec!["", "a"], vec![]),
            ("ab*ba", vec!["abba", "abxba"], vec!["aba", "ab", "abb"]),
        ] {
            assert!(fits.iter().all(|it| matches(pattern, it)), "{pattern}");
            assert!(!misses.iter().any(|it| matches(pattern, it)), "{pattern}");
        }
        // A pattern that would take for ever if every way of reading it were tried.
        assert!(!matches(&format!("{}b", "*a".repeat(40)), &"a".repeat(4_000)));
    }
}
