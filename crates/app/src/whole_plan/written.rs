//! A plan written down.

use super::model::{
    Asked, Chain, Condition, Decision, Document, FORM, Idle, Interface, Log, Record, Related,
    Reported, Traffic,
};
use crate::Loaded;
use tipstaff_core::plan::{self, Act, InterfaceTest};
use tipstaff_core::policy::{self, Level};
use tipstaff_core::space::{
    AddressSet, ConnectionState, PortProtocol, RangeSet, Relation, RelationSet, TrafficSet,
};

/// The host's plan, as the policy alone has it.
pub fn to_plan(loaded: &Loaded) -> Document {
    let plan = &loaded.plan;
    let interface = |it: &policy::Interface| Interface {
        role: it.role.clone(),
        name: it.name.clone(),
        hardware: it.hardware.map(|it| it.to_string()),
    };
    Document {
        form: FORM.to_owned(),
        host: plan.host.clone(),
        at: loaded.now.to_string(),
        posture: loaded.posture(),
        addresses: (!plan.moving).then(|| plan.addresses.clone()),
        networks: if plan.moving { Vec::new() } else { plan.broadcasts.clone() },
        interfaces: plan.interfaces.iter().map(interface).collect(),
        record: plan.record.map(|it| Record { admitted: it.admitted, seconds: it.keeps }),
        log: Log {
            which: match plan.logging.level {
                Level::Nothing => Reported::Nothing,
                Level::Denied => Reported::Denied,
                Level::All => Reported::All,
            },
            at_most: plan.logging.total.to_string(),
            of_each: plan.logging.each.to_string(),
        },
        program_marks: plan.program_marks,
        directions: plan.chains.each_ref().map(|it| Chain {
            direction: it.direction.into(),
            decisions: it.decisions.iter().map(decision).collect(),
        }),
    }
}

fn decision(decision: &plan::Decision) -> Decision {
    let plan::Written { traffic, from, to } = &decision.written;
    Decision {
        name: decision.id.to_string(),
        verdict: decision.act.verdict().into(),
        rate: match decision.act {
            Act::AllowWithin(rate) => Some(rate.to_string()),
            Act::Decide(_) => None,
        },
        conditions: decision.conditions.iter().map(condition).collect(),
        log: decision.log.map(|log| log.cap.map_or("all".into(), |cap| cap.to_string())),
        idle: decision.idle.map(|it| match it {
            plan::Idle::Ended(_) => Idle::Ended,
            plan::Idle::Paused | plan::Idle::WithoutPrograms => Idle::Paused,
        }),
        why: decision.why.clone(),
        written: Some(Asked { traffic: traffic.clone(), from: from.clone(), to: to.clone() }),
        origin: decision.origin.as_ref().map(Into::into),
    }
}

fn condition(it: &plan::Condition) -> Condition {
    let networks = |set: &AddressSet| {
        (!set.is_full()).then(|| set.blocks().iter().map(ToString::to_string).collect())
    };
    let ports = |set: &RangeSet<u16>| (!set.is_full()).then(|| ranges(set));
    Condition {
        ingress: interface(&it.in_interface),
        egress: interface(&it.out_interface),
        states: it.states.map(|states| {
            let all = ConnectionState::ALL.into_iter().filter(|it| states.contains(*it));
            all.map(Into::into).collect()
        }),
        traffic: (!it.traffic.is_any()).then(|| traffic(&it.traffic)),
        source_ports: ports(&it.source_ports),
        published: ports(&it.published),
        from: networks(&it.source),
        to: networks(&it.destination),
        from_is: related(it.source_is),
        to_is: related(it.destination_is),
        programs: it.programs.clone(),
        users: it.users.clone(),
        until: it.until.map(|it| it.to_string()),
    }
}

fn interface(test: &InterfaceTest) -> Option<String> {
    match test {
        InterfaceTest::Any => None,
        InterfaceTest::Is(name) => Some(name.clone()),
        InterfaceTest::IsNot(name) => Some(format!("!{name}")),
    }
}

fn ranges<N: Copy + Ord + tipstaff_core::space::Point>(set: &RangeSet<N>) -> Vec<[N; 2]> {
    set.ranges().iter().map(|&(first, last)| [first, last]).collect()
}

fn traffic(set: &TrafficSet) -> Traffic {
    Traffic {
        tcp: ranges(&set.ports[PortProtocol::Tcp]),
        udp: ranges(&set.ports[PortProtocol::Udp]),
        sctp: ranges(&set.ports[PortProtocol::Sctp]),
        icmp: ranges(&set.icmp),
        icmpv6: ranges(&set.icmpv6),
        others: ranges(&set.others),
    }
}

fn related(set: RelationSet) -> Option<Vec<Related>> {
    let word = |it: Relation| match (it.own, it.on_link) {
        (true, false) => Related::Own,
        (true, true) => Related::OwnOnLink,
        (false, true) => Related::OnLink,
        (false, false) => Related::Elsewhere,
    };
    (!set.is_full()).then(|| set.iter().map(word).collect())
}
