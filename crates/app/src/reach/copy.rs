//! What a copy of this machine meets the same senders with.

use super::planned::{Knock, Planned};
use super::words::{Entry, From};
use crate::rehearse::{Order, Ranges, Scene, Shot, Try, carry_out};
use crate::vocabulary as say;
use crate::{Failure, Loaded};
use tipstaff_core::rehearsal::{CLIENT_PORT, speaker};
use tipstaff_core::space::Family;
use tipstaff_linux::Machine;
use tipstaff_linux::probe::Met;
use tipstaff_linux::ruleset::Whose;

/// RFC 792, RFC 4443 section 4.1.
const ECHO_REQUESTS: [u8; 2] = [8, 128];

/// Tries every part of the report in a copy of this machine in a lab; gives what could not be
/// copied, in words.
///
/// # Errors
/// [`Failure`] if the machine cannot be copied, or the system lets us make no lab.
pub(crate) fn try_all(
    machine: &dyn Machine,
    loaded: &Loaded,
    planned: &Planned,
    entries: &mut [Entry],
    pings: &mut [From],
) -> Result<Vec<String>, Failure> {
    let here = machine.namespace()?;
    let links: Vec<String> = machine.links()?.into_iter().map(|link| link.name).collect();
    let mut tried = Vec::new();
    let mut tries = Vec::new();
    let mut packets = Vec::new();
    for probe in &planned.probes {
        let fares = &probe.fares;
        let ways = &fares.interfaces;
        let is_among =
            |ways: &[Option<String>], link: &String| ways.iter().flatten().any(|it| it == link);
        let link = match links.iter().find(|it| is_among(ways, it)) {
            Some(link) => Some(link),
            // No rule tells the ways apart, or another than those that rules name is meant.
            None if ways.is_empty() || ways.contains(&None) => {
                links.iter().find(|it| !is_among(&probe.known_ways, it))
            }
            None => None,
        };
        let (Some(link), Some(source)) = (link, speaker(&probe.senders)) else { continue };
        let Some(&destination) = fares.receivers.first() else { continue };
        let shot = match probe.knock {
            Knock::Port(protocol, port) => Shot::Port(protocol, port),
            Knock::Ping => Shot::Icmp(ECHO_REQUESTS[usize::from(fares.family == Family::V6)]),
        };
        tries.push(Try {
            whose: Whose::default(),
            link: link.clone(),
            source,
            destination,
            source_port: CLIENT_PORT,
            packets: packets.len(),
        });
        packets.push(Ranges::of([shot]));
        tried.push(probe);
    }
    if tries.is_empty() {
        return Ok(Vec::new());
    }
    let host = loaded.plan.host.clone();
    let order =
        Order { host, scene: Scene::Copy(here.file()), packets, tries, crossings: Vec::new() };
    let findings = carry_out(&order, |at, _, outcome| {
        let (Some(probe), [(met, _)]) = (tried.get(at), &outcome[..]) else { return };
        let part = probe.slot.of(entries, pings);
        part.copy = Some((*met).into());
        if part.policy == say::Word::Unknown {
            return;
        }
        let fits = match met {
            // Whoever is led to another machine is seen to leave this one.
            Met::PassedOn => part.led_to.is_some() && part.policy == say::Word::Allow,
            _ => fits(part.policy, part.limited, probe.knock, *met),
        };
        part.agree = Some(part.agree.unwrap_or(true) && fits);
    })?;
    Ok(findings.missing)
}

/// Whether what was met is what the verdict leads one to expect, given that somebody listens.
fn fits(verdict: say::Word, limited: bool, knock: Knock, met: Met) -> bool {
    match (verdict, met) {
        (say::Word::Allow, Met::Open)
        | (say::Word::Deny, Met::Denied | Met::Lost)
        | (say::Word::Reject, Met::Rejected) => true,
        // Pings are answered by the kernel itself, and not of every protocol is it seen who listens.
        (say::Word::Allow, Met::Closed) => match knock {
            Knock::Ping => true,
            Knock::Port(protocol, _) => !protocol.has_known_receivers(),
        },
        (say::Word::Allow, Met::Denied) => limited,
        _ => false,
    }
}
