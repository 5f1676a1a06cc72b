//! A document as a plan again.

use super::model::{
    Chain, Condition, Decision, Document, FORM, Idle, Interface, Related, Reported, Traffic,
};
use std::fmt::Display;
use tipstaff_core::plan::{self, Act, HostPlan, InterfaceTest, RuleId};
use tipstaff_core::policy::{self, Level, Logging, Rate, Time, Verdict};
use tipstaff_core::space::{
    AddressSet, Block, ByProtocol, ConnectionState, Direction, HardwareAddress, Point,
    PortProtocol, RangeSet, Relation, RelationSet, StateSet, TrafficSet,
};

/// What is wrong: where in the document, and what.
pub(super) type Wrong = String;

fn wrong(place: &str, found: &str, expected: &str) -> Wrong {
    format!("{place}: `{}` is no {expected}", found.escape_debug())
}

/// The plan, and the moment for which it was worked out.
pub(super) fn plan(document: &Document) -> Result<(HostPlan, Time), Wrong> {
    if document.form != FORM {
        let found = document.form.escape_debug();
        return Err(format!("form: `{found}`, where this version reads `{FORM}`"));
    }
    let now = time("at", &document.at)?;
    for (at, (chain, meant)) in document.directions.iter().zip(Direction::ALL).enumerate() {
        if chain.direction.as_str() != meant.as_str() {
            return Err(format!("directions[{at}].direction: expected `{meant}`"));
        }
    }
    let chain = |at: usize| -> Result<plan::Chain, Wrong> {
        let Chain { decisions, .. } = &document.directions[at];
        let place = |it: usize| format!("directions[{at}].decisions[{it}]");
        let read = decisions.iter().enumerate();
        let decisions = read.map(|(number, it)| decision(&place(number), it));
        Ok(plan::Chain {
            direction: Direction::ALL[at],
            decisions: decisions.collect::<Result<_, _>>()?,
        })
    };
    let interface = |(at, it): (usize, &Interface)| -> Result<policy::Interface, Wrong> {
        let hardware = it.hardware.as_deref().map(|text| {
            let place = format!("interfaces[{at}].hardware");
            text.parse::<HardwareAddress>().map_err(|()| wrong(&place, text, "hardware address"))
        });
        let (role, name) = (it.role.clone(), it.name.clone());
        Ok(policy::Interface { role, name, hardware: hardware.transpose()? })
    };
    let plan = HostPlan {
        host: document.host.clone(),
        addresses: document.addresses.clone().unwrap_or_default(),
        on_link: AddressSet::empty(),
        broadcasts: document.networks.clone(),
        moving: document.addresses.is_none(),
        interfaces: document
            .interfaces
            .iter()
            .enumerate()
            .map(interface)
            .collect::<Result<_, _>>()?,
        program_marks: document.program_marks,
        record: document
            .record
            .as_ref()
            .map(|it| policy::Record { admitted: it.admitted, keeps: it.seconds }),
        logging: Logging {
            level: match document.log.which {
                Reported::Nothing => Level::Nothing,
                Reported::Denied => Level::Denied,
                Reported::All => Level::All,
            },
            total: rate("log.at_most", &document.log.at_most)?,
            each: rate("log.of_each", &document.log.of_each)?,
            all_until: None,
        },
        taken: None,
        chains: [chain(0)?, chain(1)?, chain(2)?],
    };
    Ok((plan, now))
}

fn time(place: &str, text: &str) -> Result<Time, Wrong> {
    Time::parse(text).ok_or_else(|| wrong(place, text, "moment as RFC 3339 has it"))
}

fn rate(place: &str, text: &str) -> Result<Rate, Wrong> {
    Rate::parse(text).map_err(|_| wrong(place, text, "rate such as `5/second`"))
}

fn decision(place: &str, it: &Decision) -> Result<plan::Decision, Wrong> {
    let verdict = match it.verdict.as_str() {
        "allow" => Verdict::Allow,
        "deny" => Verdict::Deny,
        _ => Verdict::Reject,
    };
    let act = match &it.rate {
        None => Act::Decide(verdict),
        Some(_) if verdict != Verdict::Allow => {
            return Err(format!("{place}.rate: only what allows has a rate"));
        }
        Some(text) => Act::AllowWithin(rate(&format!("{place}.rate"), text)?),
    };
    let log = match it.log.as_deref() {
        None => None,
        Some("all") => Some(policy::Log { cap: None }),
        Some(text) => Some(policy::Log { cap: Some(rate(&format!("{place}.log"), text)?) }),
    };
    let read = it.conditions.iter().enumerate();
    let conditions: Vec<plan::Condition> = read
        .map(|(at, it)| condition(&format!("{place}.conditions[{at}]"), it))
        .collect::<Result<_, _>>()?;
    let ends = conditions.first().and_then(|it| it.until);
    let idle = match (it.idle, ends) {
        (None, _) => None,
        (Some(Idle::Paused), _) => Some(plan::Idle::Paused),
        (Some(Idle::Ended), Some(until)) => Some(plan::Idle::Ended(until)),
        (Some(Idle::Ended), None) if conditions.is_empty() => Some(plan::Idle::Paused),
        (Some(Idle::Ended), None) => {
            return Err(format!(
                "{place}.idle: it has ended, and none of its conditions says when"
            ));
        }
    };
    let written = it.written.as_ref().map(|it| plan::Written {
        traffic: it.traffic.clone(),
        from: it.from.clone(),
        to: it.to.clone(),
    });
    Ok(plan::Decision {
        id: RuleId::parse(&it.name),
        origin: None,
        conditions,
        act,
        log,
        idle,
        why: it.why.clone(),
        written: written.unwrap_or_default(),
    })
}

fn condition(place: &str, it: &Condition) -> Result<plan::Condition, Wrong> {
    let interface =
        |name: &Option<String>| name.as_deref().map_or(InterfaceTest::Any, InterfaceTest::of);
    let ports = |key: &str, list: &Option<Vec<[u16; 2]>>| match list {
        None => Ok(RangeSet::full()),
        Some(list) => ranges(&format!("{place}.{key}"), list),
    };
    let networks = |key: &str, list: &Option<Vec<String>>| -> Result<AddressSet, Wrong> {
        let Some(list) = list else { return Ok(AddressSet::full()) };
        let block = |text: &String| match Block::parse(text) {
            Ok(block) => Ok(block.addresses()),
            Err(_) => Err(wrong(&format!("{place}.{key}"), text, "network")),
        };
        list.iter().map(block).collect()
    };
    Ok(plan::Condition {
        in_interface: interface(&it.ingress),
        out_interface: interface(&it.egress),
        states: it.states.as_ref().map(|states| {
            let named = |it: &ConnectionState| states.contains(&(*it).into());
            StateSet::of(&ConnectionState::ALL.into_iter().filter(named).collect::<Vec<_>>())
        }),
        traffic: match &it.traffic {
            None => TrafficSet::any(),
            Some(it) => traffic(&format!("{place}.traffic"), it)?,
        },
        source_ports: ports("source_ports", &it.source_ports)?,
        source: networks("from", &it.from)?,
        destination: networks("to", &it.to)?,
        source_is: related(it.from_is.as_deref()),
        destination_is: related(it.to_is.as_deref()),
        programs: it.programs.clone(),
        users: it.users.clone(),
        published: ports("published", &it.published)?,
        until: it.until.as_deref().map(|it| time(&format!("{place}.until"), it)).transpose()?,
    })
}

fn ranges<N: Point + Display>(place: &str, list: &[[N; 2]]) -> Result<RangeSet<N>, Wrong> {
    if let Some([first, last]) = list.iter().find(|it| it[0] > it[1]) {
        return Err(format!("{place}: [{first}, {last}] ends before it begins"));
    }
    Ok(RangeSet::from_ranges(list.iter().map(|&[first, last]| (first, last))))
}

fn traffic(place: &str, it: &Traffic) -> Result<TrafficSet, Wrong> {
    let of = |key: &str, list: &[[u16; 2]]| ranges(&format!("{place}.{key}"), list);
    let [tcp, udp, sctp] = [of("tcp", &it.tcp)?, of("udp", &it.udp)?, of("sctp", &it.sctp)?];
    Ok(TrafficSet {
        ports: ByProtocol::new(|it| match it {
            PortProtocol::Tcp => tcp.clone(),
            PortProtocol::Udp => udp.clone(),
            PortProtocol::Sctp => sctp.clone(),
        }),
        icmp: ranges(&format!("{place}.icmp"), &it.icmp)?,
        icmpv6: ranges(&format!("{place}.icmpv6"), &it.icmpv6)?,
        others: ranges(&format!("{place}.others"), &it.others)?,
    })
}

fn related(words: Option<&[Related]>) -> RelationSet {
    let Some(words) = words else { return RelationSet::full() };
    let is = |it: Relation| match (it.own, it.on_link) {
        (true, false) => Related::Own,
        (true, true) => Related::OwnOnLink,
        (false, true) => Related::OnLink,
        (false, false) => Related::Elsewhere,
    };
    RelationSet::of(|it| words.contains(&is(it)))
}
