//! What decisions have counted.

use serde::{Deserialize, Serialize};
use tipstaff_core::plan::RuleId;
use tipstaff_core::space::Direction;

/// A number of packets, and their bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Count {
    /// How many packets were counted.
    pub packets: u64,
    /// Bytes, IP headers included.
    pub bytes: u64,
}

impl Count {
    pub(super) fn add(&mut self, other: Self) {
        self.packets += other.packets;
        self.bytes += other.bytes;
    }
}

/// What one decision has done so far.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// The direction of its packets.
    pub direction: Direction,
    /// The decision that they were counted for.
    pub id: RuleId,
    /// The packets it took; for a rate, those within it.
    pub taken: Count,
    /// For a rate, the packets beyond it.
    pub excess: Option<Count>,
    /// For a rate of each source, the packets of sources for which there was no room to be told apart
    /// from others: some of them within the rate, some beyond.
    pub crowded: Option<Count>,
}

impl Tally {
    /// Adds what another has counted for the same decision.
    pub fn add(&mut self, other: &Self) {
        self.taken.add(other.taken);
        for (one, more) in [(&mut self.excess, other.excess), (&mut self.crowded, other.crowded)] {
            if let Some(more) = more {
                one.get_or_insert_default().add(more);
            }
        }
    }
}
