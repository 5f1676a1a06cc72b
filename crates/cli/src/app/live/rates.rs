//! Rates that keep their senders apart, and have had no room for some.

use super::{about, finding};
use crate::app::Loaded;
use tipstaff_core::analysis::{self, Code};
use tipstaff_core::policy::Severity;
use tipstaff_linux::ruleset::{self, Tally};
use tipstaff_linux::{NetlinkSocket, Protocol};

/// What such a rule has met, in words; `None` if there was room for all its senders.
fn words(tally: &Tally) -> Option<String> {
    let packets = tally.crowded.filter(|it| it.packets > 0)?.packets;
    let met = match packets {
        1 => "a packet came from a sender".to_owned(),
        packets => format!("{packets} packets came from senders"),
    };
    Some(format!(
        "{met} for which there was no room: a rate per source tells 65,536 senders apart at a time, and \
         further ones share 16,384 places"
    ))
}

/// Findings about them; none where the kernel's rules cannot be read or are another host's.
pub fn findings(loaded: &Loaded) -> Vec<analysis::Finding> {
    let held = NetlinkSocket::open(Protocol::Netfilter).and_then(|mut it| ruleset::read(&mut it));
    let held = held.ok().flatten().filter(|it| it.host == loaded.plan.host);
    let tallies = held.map(|it| it.tallies).unwrap_or_default();
    let found = tallies.iter().filter_map(|tally| {
        let decision = loaded.plan.find(&tally.id)?;
        Some(about(finding(Code::RateCrowded, Severity::Warning, words(tally)?), decision))
    });
    found.collect()
}
