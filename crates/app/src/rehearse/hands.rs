//! The part of a rehearsal that runs inside the lab.

use super::crossed::crossed;
use super::order::{Answer, Order, Ranges, Scene, Shot, Try};
use crate::{Failure, Loaded, loaded};
use std::collections::BTreeMap;
use std::io::{BufRead, Write};
use tipstaff_core::policy::Source;
use tipstaff_core::space::{AddressSet, ConnectionState};
use tipstaff_linux::lab::{Stage, StageLink};
use tipstaff_linux::probe::{Ends, Met, Payload, Sweep, first_packet};
use tipstaff_linux::replica::{Doors, Replica, Standing};
use tipstaff_linux::ruleset::{Marks, Snapshot, Whose};
use tipstaff_linux::{Here, Machine, Namespace, Protocol, ruleset, tracking};

/// Reads an order from `input`, carries it out, and answers on `out`, try by try.
///
/// # Errors
/// [`Failure`] if the order cannot be read or an answer not be written; everything else is
/// answered.
pub fn lend(mut input: impl BufRead, out: &mut dyn Write) -> Result<(), Failure> {
    let system = |message: String| Failure::System { message, help: Vec::new() };
    tipstaff_linux::die_with_parent()
        .map_err(|source| system(format!("cannot tie the lab to its command: {source}")))?;
    let mut line = String::new();
    input
        .read_line(&mut line)
        .map_err(|source| system(format!("cannot read what to try: {source}")))?;
    let order: Order = serde_json::from_str(&line)
        .map_err(|source| system(format!("cannot understand what to try: {source}")))?;
    match carry_out(&order, out) {
        Err(failure @ (Failure::System { .. } | Failure::Refusal { .. })) => {
            let help = match &failure {
                Failure::System { help, .. } => help.clone(),
                _ => Vec::new(),
            };
            tell(out, &Answer::Failed(failure.line(), help))
        }
        other => other,
    }
}

fn tell(out: &mut dyn Write, answer: &Answer) -> Result<(), Failure> {
    let failed = |message: String| Failure::System { message, help: Vec::new() };
    let mut text = serde_json::to_string(answer).map_err(|error| failed(error.to_string()))?;
    text.push('\n');
    out.write_all(text.as_bytes())
        .and_then(|()| out.flush())
        .map_err(|error| failed(format!("cannot answer from the lab: {error}")))
}

/// What the kernel's connection tracking calls multicast router discovery, if some is tried.
fn discovery_is_invalid(order: &Order) -> Result<Option<bool>, Failure> {
    let tried = |one: &Try| {
        let packets = order.packets_of(one);
        one.source.is_ipv6() && (packets.has_icmp(151) || packets.has_icmp(152))
    };
    if !order.tries.iter().any(tried) {
        return Ok(None);
    }
    Ok(Some(tracking()?.router_discovery == ConnectionState::Invalid))
}

fn carry_out(order: &Order, out: &mut dyn Write) -> Result<(), Failure> {
    let discovery_is_invalid = discovery_is_invalid(order)?;
    match &order.scene {
        Scene::Policy { sources, posture, links, on_link } => {
            let mut loaded = policy(order, sources, on_link)?;
            if let Some(posture) = posture {
                loaded.in_posture(posture)?;
                loaded.each_plan(|plan| plan.on_link = on_link.clone());
            }
            let links: Vec<StageLink> = links
                .iter()
                .map(|(name, addresses)| StageLink {
                    name: name.clone(),
                    index: None,
                    addresses: addresses.clone(),
                })
                .collect();
            let stage = Stage::build(&order.host, &links, false)?;
            let enforced = enforced(order, &stage, &loaded)?;
            tell(out, &Answer::Ready { missing: Vec::new(), discovery_is_invalid })?;
            let unowned = order.tries.partition_point(|it| it.whose == Whose::default());
            let (plain, owned) = order.tries.split_at(unowned);
            let mut sent = try_all(out, order, plain, &stage, false)?;
            for tries in owned.chunk_by(|a, b| a.whose == b.whose) {
                let ports = tries.iter().map(|it| order.packets_of(it));
                let ports = Ranges::ports(&ports);
                let mark = mark_of(&enforced.marks, &tries[0].whose);
                let doors = stage.host().run(|| Doors::open(&ports, mark))??;
                sent += try_all(out, order, tries, &stage, true)?;
                drop(doors);
            }
            tell(out, &Answer::Done(sent))
        }
        Scene::Otherwise { namespace, tables, sources, on_link } => {
            let mut replica = Namespace::open(namespace)?.run(Replica::take)??;
            replica.keep(|family, table| tables.iter().any(|it| (it.0, &*it.1) == (family, table)));
            let forwards = replica.forwards();
            let Standing { stage, missing, sockets } = replica.set_up(&order.host)?;
            if !sources.is_empty() {
                enforced(order, &stage, &policy(order, sources, on_link)?)?;
            }
            tell(out, &Answer::Ready { missing, discovery_is_invalid })?;
            let sent = try_all(out, order, &order.tries, &stage, true)?;
            if !order.crossings.is_empty() {
                tell(out, &Answer::Crossed(crossed(&order.crossings, &stage, forwards)?))?;
            }
            drop(sockets);
            tell(out, &Answer::Done(sent))
        }
        Scene::Copy(namespace) => {
            let replica = Namespace::open(namespace)?.run(Replica::take)??;
            let Standing { stage, missing, sockets } = replica.set_up(&order.host)?;
            tell(out, &Answer::Ready { missing, discovery_is_invalid })?;
            let sent = try_all(out, order, &order.tries, &stage, true)?;
            drop(sockets);
            tell(out, &Answer::Done(sent))
        }
    }
}

/// The policy that the lab was told of.
fn policy(
    order: &Order,
    sources: &[(String, String, Option<String>)],
    on_link: &AddressSet,
) -> Result<Loaded, Failure> {
    let sources = sources.iter().map(|(name, text, place)| match place {
        Some(place) => Source::of_place(place, name, text),
        None => Source::new(name, text),
    });
    let mut loaded = loaded("the policy", sources.collect(), Some(&order.host))?;
    loaded.each_plan(|plan| plan.on_link = on_link.clone());
    Ok(loaded)
}

/// Puts a policy in force on the host in the lab.
fn enforced(order: &Order, stage: &Stage, loaded: &Loaded) -> Result<Snapshot, Failure> {
    let enforce = || {
        let mut kernel = Here.channel(Protocol::Netfilter)?;
        ruleset::enforce(&mut kernel, &order.host, loaded.program())
    };
    stage
        .host()
        .run(enforce)?
        .map_err(|error| Failure::in_kernel(error, &loaded.sources, &loaded.plan))
}

/// So many packets are worth to be sent together.
const TOGETHER: u64 = 65_536;

/// The mark of an owner's sockets.
fn mark_of(marks: &Marks, whose: &Whose) -> u32 {
    Marks::bits(marks.mask, marks.numbers().get(whose).copied().unwrap_or(0))
}

/// Tries some of the order, and gives how many packets were sent.
fn try_all(
    out: &mut dyn Write,
    order: &Order,
    tries: &[Try],
    stage: &Stage,
    sockets: bool,
) -> Result<u64, Failure> {
    let mut sweep = Sweep::open(stage, sockets)?;
    let mut rest = tries;
    while !rest.is_empty() {
        let mut count = 0;
        let fits = |one: &&Try| {
            let before = count;
            count += order.packets_of(one).count();
            before == 0 || count <= TOGETHER
        };
        let (some, behind) = rest.split_at(rest.iter().take_while(fits).count());
        rest = behind;
        let mut packets: Vec<(Ends<'_>, Payload)> = Vec::new();
        for one in some {
            let (source, destination) = (one.source, one.destination);
            let ends = Ends { link: &one.link, source, destination };
            packets.extend(
                order.packets_of(one).shots().map(|it| (ends, payload(it, one.source_port))),
            );
        }
        let mut met = sweep.fire(&packets)?.into_iter();
        for one in some {
            let mut sorted: BTreeMap<Met, Vec<Shot>> = BTreeMap::new();
            for (shot, met) in order.packets_of(one).shots().zip(&mut met) {
                sorted.entry(met).or_default().push(shot);
            }
            let words =
                sorted.into_iter().map(|(met, it)| (met.as_str().to_owned(), Ranges::of(it)));
            tell(out, &Answer::Met(words.collect()))?;
        }
    }
    Ok(sweep.sent())
}

fn payload(shot: Shot, source: u16) -> Payload {
    match shot {
        Shot::Port(protocol, port) => first_packet(protocol, source, port),
        Shot::Icmp(kind) => Payload::Icmp { kind },
    }
}
