//! `rehearse`: every port tried in a lab, from every sender that the policy tells apart.

mod crossed;
mod hands;
mod lab;
mod order;
mod tally;
mod traffic;
mod tries;
mod words;

pub use hands::lend;
pub(crate) use lab::carry_out;
pub use lab::no_namespaces;
pub use order::{Crossing, Order, Ranges, Scene, Shot, Try};
pub use words::{Crossed, Instead, Report, Request, Row, Witness};

use super::receivers::Receivers;
use super::{Failure, Loaded};
use crate::led::Ways;
use crate::vocabulary as say;
use crossed::{Crossings, crossings};
use std::borrow::Cow;
use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Instant;
use tally::Tally;
use tipstaff_core::policy::{Source, read_addresses, read_traffic};
use tipstaff_core::rehearsal::{Role, Site, course};
use tipstaff_core::space::{AddressSet, RangeSet, TrafficSet};
use tipstaff_linux::Machine;
use tries::{Depth, owned, tries};

/// Tries, and tells `progress` after each step how many packets of how many have been tried.
///
/// # Errors
/// [`Failure`] if an argument is not understood, or the system lets us make no lab.
pub fn report(
    machine: &dyn Machine,
    loaded: &Loaded,
    request: &Request<'_>,
    progress: &dyn Fn(u64, u64),
) -> Result<Report, Failure> {
    let loaded = &with_addresses(loaded);
    let from = senders(loaded, request.from)?;
    let traffic = traffic(loaded, request.traffic)?;
    let (mut site, scene) = scene(machine, loaded, request)?;
    let ways = if request.live { Ways::of(machine)? } else { Ways::default() };
    site.telling.extend(ways.telling(&loaded.plan));
    let course = course(&loaded.policy, &loaded.plan, &site, from.as_ref());
    if course.stands.is_empty() {
        return Err(Failure::usage(
            "there is nobody to try from, or no address of the host to try",
            "the host needs `addresses`, and --from must name others than the host itself",
        ));
    }
    let (depth, mut packets, mut tries) = tries(&loaded.plan, &course, &traffic, request.quick);
    let mut whose: Vec<usize> = (0..tries.len()).collect();
    let mut whole = true;
    let receivers = if request.live {
        Some(Receivers::look(machine, loaded)?)
    } else {
        let owned = owned(&loaded.plan, &course, &traffic, packets.len());
        whole &= owned.whole;
        packets.extend(owned.packets);
        whose.extend(owned.at);
        tries.extend(owned.tries);
        None
    };
    let all: u64 = tries.iter().map(|it| packets[it.packets].count()).sum();
    if all == 0 {
        // That nothing disagreed would be no answer.
        return Err(Failure::usage(
            "there is nothing to try in that traffic",
            "a rehearsal sends to the ports of TCP, UDP and SCTP, and ICMP messages",
        ));
    }
    let crossings = match &request.instead {
        Some(_) if !ways.lead() => Some(crossings(&loaded.plan, &site)),
        _ => None,
    };
    let ordered = crossings.as_ref().map(Crossings::order).unwrap_or_default();
    let host = loaded.plan.host.clone();
    let order = Order { host, scene, packets, tries, crossings: ordered };
    let begun = Instant::now();
    let mut tally = Tally::new(loaded, receivers, ways);
    let mut tried = 0;
    progress(0, all);
    let findings = carry_out(&order, |at, tracking, outcome| {
        let stand = whose.get(at).and_then(|at| course.stands.get(*at));
        let (Some(stand), Some(one)) = (stand, order.tries.get(at)) else { return };
        let packets = order.packets_of(one);
        tally.add(stand, &one.whose, packets, tracking, &outcome);
        tried += packets.count();
        progress(tried, all);
    })?;
    Ok(Report {
        host: loaded.plan.host.clone(),
        posture: loaded.posture(),
        tried: if request.live { say::Tried::Copy } else { say::Tried::Policy },
        evidence: "each packet's fate was seen in the kernel: what passed behind the last rule was \
                   reported, and so was every answer; what arrived and was neither was denied",
        packets: all,
        sent: findings.sent,
        seconds: begun.elapsed().as_secs_f64(),
        every_port: depth == Depth::Every && whole,
        rows: tally.rows,
        members: course.stands.iter().filter(|it| it.role == Role::Member).count(),
        members_left_out: course.left_out,
        disagreements: tally.disagreements,
        not_known: tally.not_known,
        witnesses: tally.witnesses,
        missing: findings.missing,
        crossed: crossings.map(|it| it.judged(&findings.crossed)),
    })
}

/// A host without addresses cannot be tried: one of which none are known gets some.
fn with_addresses(loaded: &Loaded) -> Cow<'_, Loaded> {
    let mut loaded = Cow::Borrowed(loaded);
    if loaded.plan.moving && loaded.plan.addresses.is_empty() {
        loaded.to_mut().plan.give_it_addresses();
    }
    loaded
}

fn senders(loaded: &Loaded, wishes: &[String]) -> Result<Option<AddressSet>, Failure> {
    if wishes.is_empty() {
        return Ok(None);
    }
    let mut senders = Vec::new();
    for wish in wishes {
        let source = Source::new("--from", wish);
        let found = read_addresses(&loaded.policy, &source);
        senders.push(found.map_err(|problems| Failure::Input { sources: vec![source], problems })?);
    }
    Ok(Some(senders.into_iter().collect()))
}

fn traffic(loaded: &Loaded, wish: Option<&str>) -> Result<TrafficSet, Failure> {
    let Some(wish) = wish else { return Ok(TrafficSet::any()) };
    let source = Source::new("--traffic", wish);
    read_traffic(&loaded.policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })
}

/// Where the host is tried, and what the lab is to be made of.
fn scene(
    machine: &dyn Machine,
    loaded: &Loaded,
    request: &Request<'_>,
) -> Result<(Site, Scene), Failure> {
    let place = |it: &Source| it.place.as_ref().map(ToString::to_string);
    let parts = |it: &Source| (it.name.to_string(), it.text.to_string(), place(it));
    let sources = || loaded.sources.iter().map(parts).collect();
    if request.live {
        let links = machine.links()?;
        // Who is not on the link cannot send to a link's own addresses (RFC 4291 section 2.5.6).
        let of_the_link = |it: IpAddr| matches!(it, IpAddr::V6(it) if it.is_unicast_link_local());
        let all = links.iter().flat_map(|link| &link.addresses).map(|it| it.0);
        let addresses = all.filter(|it| !of_the_link(*it)).collect();
        let interfaces = links.iter().map(|link| link.name.clone()).collect();
        // What cannot be entered cannot be copied.
        machine.namespace()?;
        let own = PathBuf::from(format!("/proc/{}/ns/net", std::process::id()));
        let ports = request.instead.as_ref().map_or_else(RangeSet::empty, |it| it.ports.clone());
        let site = Site { interfaces, addresses, telling: Vec::new(), ports };
        let scene = match &request.instead {
            None => Scene::Copy(own),
            Some(Instead { tables, policy, .. }) => Scene::Otherwise {
                namespace: own,
                tables: tables.clone(),
                sources: if *policy { sources() } else { Vec::new() },
                on_link: loaded.plan.on_link.clone(),
            },
        };
        return Ok((site, scene));
    }
    let site = Site::of(&loaded.plan);
    let links = site.interfaces.iter().enumerate().map(|(at, name)| {
        // Which interface has which address makes no difference to what comes in.
        let addresses: &[IpAddr] = if at == 0 { &site.addresses } else { &[] };
        let alone = |it: &IpAddr| (*it, if it.is_ipv4() { 32 } else { 128 });
        (name.clone(), addresses.iter().map(alone).collect())
    });
    let on_link = loaded.plan.on_link.clone();
    let posture = loaded.plan.taken.as_ref().map(|it| it.name.clone());
    let (sources, links) = (sources(), links.collect());
    let scene = Scene::Policy { sources, posture, links, on_link };
    Ok((site, scene))
}
