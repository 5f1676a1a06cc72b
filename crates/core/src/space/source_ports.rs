//! Where packets with ports come from.

use super::RangeSet;

/// The source ports of packets that have ports, and whether those without are meant too.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SourcePorts {
    /// The ports that such packets come from.
    pub ports: RangeSet<u16>,
    /// Whether packets without ports are in it.
    pub portless: bool,
}

impl SourcePorts {
    /// Every port, and packets without.
    #[must_use]
    pub fn full() -> Self {
        Self { ports: RangeSet::full(), portless: true }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.ports.is_empty() && !self.portless
    }

    pub(super) fn intersection(&self, other: &Self) -> Self {
        Self {
            ports: self.ports.intersection(&other.ports),
            portless: self.portless && other.portless,
        }
    }

    pub(super) fn difference(&self, other: &Self) -> Self {
        Self {
            ports: self.ports.difference(&other.ports),
            portless: self.portless && !other.portless,
        }
    }

    pub(super) fn is_within(&self, other: &Self) -> bool {
        self.ports.is_within(&other.ports) && (other.portless || !self.portless)
    }

    pub(super) fn union(&self, other: &Self) -> Self {
        Self { ports: self.ports.union(&other.ports), portless: self.portless || other.portless }
    }
}
