//! Rules about ports that callers asked for elsewhere: what the plan says, what the program read back from
//! the kernel says, and what packets meet that are really led here.

use crate::agreement::{agree, do_not_wait_for_nobody, in_the_lab, new_packets, shot};
use crate::translated::parts::{end, equal, leads_to, octets, port, protocol, send, version};
use crate::world::{netfilter, plan};
use std::collections::HashMap;
use std::fmt::Write;
use std::net::IpAddr;
use tipstaff_core::generate::{Generator, HOST_NAME};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::{Test, lower};
use tipstaff_core::space::{Packet, Transport};
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::probe::{Fate, Range, Shot};
use tipstaff_linux::ruleset::{enforce, read};
use tipstaff_wire::nf_tables::{self as nf, Base, Batch, Expression, Hook, Rule, ct};

const POLICIES: u64 = 16;
const PACKETS: usize = 400;

/// What is led elsewhere is sent there, which is nobody's address.
fn sent_to(packet: &Packet) -> IpAddr {
    address(if packet.source.is_ipv4() { "192.0.2.99" } else { "2001:db8:2::99" })
}

/// Leads each of these packets, as it is sent, to where it is to be.
fn porter(packets: &[Packet]) -> Batch {
    let mut batch = Batch::begin(1);
    let table = || "porter".to_owned();
    batch.new_table(&nf::Table { name: table(), ..nf::Table::default() });
    batch.new_chain(&nf::Chain {
        table: table(),
        name: "in".into(),
        kind: Some("nat".into()),
        hook: Some(Hook { number: Hook::PRE_ROUTING, priority: -100 }),
        policy: Some(1),
        ..nf::Chain::default()
    });
    for packet in packets {
        let (Transport::Ports { source, destination, .. }, Some(asked)) =
            (packet.transport, packet.asked)
        else {
            continue;
        };
        let to = packet.destination;
        let from = Expression::Payload { register: 1, base: Base::Transport, offset: 0, length: 2 };
        let mut expressions: Vec<Expression> = version(to).into();
        expressions.extend(protocol(packet.protocol()));
        expressions.extend([end(to, true), equal(octets(packet.source))]);
        expressions.extend([from, equal(source.to_be_bytes())]);
        expressions.extend([port(), equal(asked.to_be_bytes())]);
        expressions.extend(leads_to(to, Some(destination)));
        batch.new_rule(&Rule {
            table: table(),
            chain: "in".into(),
            expressions,
            ..Rule::default()
        });
    }
    batch
}

/// As it is sent: to nobody's address, at the port that was asked for.
fn as_sent(packet: &Packet) -> Shot {
    let mut sent = packet.clone();
    if let (Some(asked), Transport::Ports { destination, .. }) = (packet.asked, &mut sent.transport)
    {
        *destination = asked;
        sent.destination = sent_to(packet);
    }
    shot(&sent)
}

/// First packets of flows, of those with ports each from one of its own; about a third of those led here.
fn packets(generator: &mut Generator, of: &HostPlan) -> Vec<Packet> {
    let mut ports = (1_024..=u16::MAX).step_by(100);
    new_packets(PACKETS, || {
        let mut packet = generator.packet(of);
        if generator.one_in(2) {
            // At a port that rules name, but between ends that can speak in the lab.
            let ends = (packet.source, packet.destination);
            generator.aim(&mut packet, of);
            (packet.source, packet.destination) = ends;
        }
        let mut packet = generator.led(of.related(packet), of);
        if let Transport::Ports { source, .. } = &mut packet.transport {
            *source = ports.next().expect("enough");
        }
        in_the_lab(&packet, "eth0")
    })
}

/// A generated policy, with more rules about published ports ahead of the others.
fn policy(generator: &mut Generator) -> String {
    let text = generator.policy();
    let mut rules = String::new();
    for number in 0..6 {
        let mut of = |all: &[&str]| all[generator.below(all.len())].to_owned();
        let (verdict, direction) =
            (of(&["allow", "deny", "reject"]), of(&["forwarded", "forwarded", "inbound"]));
        let traffic = of(&["any", "80-443/tcp+udp", "1-40000/tcp+sctp", "1024-65535/udp"]);
        let ports =
            of(&["8088/tcp+udp+sctp", "79-81/tcp+udp", "8000-8100/tcp+udp", "8099/udp+tcp"]);
        let from =
            of(&["", "from = [\"198.51.100.0/24\", \"2001:db8::/33\"]", "from = [\"private\"]"]);
        let _ = writeln!(
            rules,
            "[[host.{HOST_NAME}.rule]]\nname = \"led-{number}\"\n{verdict} = [\"{traffic}\"]\n\
             direction = \"{direction}\"\npublished = [\"{ports}\"]\n{from}"
        );
    }
    let others = format!("[[host.{HOST_NAME}.rule]]");
    let at = text.find(&others).unwrap_or(text.len());
    format!("{}\n{rules}\n{}", &text[..at], &text[at..])
}

#[test]
fn what_is_led_here_meets_the_rules_about_published_ports() {
    sealed("published::what_is_led_here_meets_the_rules_about_published_ports", || {
        let (mut led, mut by_published) = (0, HashMap::<Verdict, usize>::new());
        for seed in 0..POLICIES {
            let lab = street_sluice_granary();
            let node = |name| lab.node(name).expect("there");
            let (host, street) = (node("sluice"), node("street"));
            do_not_wait_for_nobody(host);
            let mut generator = Generator::new(seed).crowded();
            let text = policy(&mut generator);
            let mut plan = plan(&text);
            plan.record = None;
            let sent = packets(&mut generator, &plan);
            let snapshot = host
                .run(|| {
                    send(porter(&sent), "a table that leads");
                    enforce(&mut netfilter(), &plan.host, &lower(&plan))
                })
                .expect("entered")
                .unwrap_or_else(|error| panic!("seed {seed}: {error}\n{text}"));
            let mut range = Range::open(host, "eth0", street, "eth0").expect("an observer");
            let shots: Vec<Shot> = sent.iter().map(as_sent).collect();
            let mut account = range.fire(&shots).expect("packets are sent");
            for (shot, fate) in shots.iter().zip(&mut account.fates) {
                // On a busy machine one may be dropped before it meets any rule.
                if *fate == Fate::Lost {
                    *fate = range.fire(&[*shot]).expect("it is sent").fates[0];
                }
            }
            for (packet, fate) in sent.iter().zip(&account.fates) {
                let decided = plan.evaluate(packet);
                agree((&plan, &snapshot.program), packet, *fate, &format!("seed {seed}\n{text}"));
                led += usize::from(packet.asked.is_some());
                let decision = plan.decision(packet);
                if packet.asked.is_some()
                    && decision.conditions.iter().all(|it| !it.published.is_full())
                {
                    *by_published.entry(decided.verdict).or_default() += 1;
                }
            }
        }
        println!(
            "{led} packets led here; decided by rules about published ports: {by_published:?}"
        );
        assert!(led > 1_000, "{led}");
        assert!(Verdict::ALL.iter().all(|it| by_published.get(it) > Some(&20)), "{by_published:?}");
    });
}

/// That its packets were led here, and which way they go, says what port was asked for only together; what
/// is written otherwise is not taken for that.
#[test]
fn what_is_no_question_about_a_published_port_is_not_taken_for_one() {
    sealed("published::what_is_no_question_about_a_published_port_is_not_taken_for_one", || {
        let lab = street_sluice_granary();
        let host = lab.node("sluice").expect("it");
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
                    name = \"reading-room\"\ndirection = \"forwarded\"\nallow = [\"80/tcp\"]\n\
                    published = [\"8088/tcp\", \"8090-8099/tcp\", \"9000/tcp\"]\n";
        let plan = plan(text);
        let kept = host
            .run(|| enforce(&mut netfilter(), &plan.host, &lower(&plan)))
            .expect("entered")
            .expect("in force");
        let is_published = |test: &Test| matches!(test, Test::Published(_));
        let all = |it: &tipstaff_core::program::RuleProgram| {
            let rules = it.chains.iter().flat_map(|it| it.rules.clone());
            rules.flat_map(|it| it.tests).collect::<Vec<_>>()
        };
        assert_eq!(all(&kept.program).iter().filter(|it| is_published(it)).count(), 1);

        let register = 1;
        let asked = Expression::CtEnds { register, key: ct::DESTINATION_PORT, direction: 0 };
        let answered = Expression::CtEnds { register, key: ct::DESTINATION_PORT, direction: 1 };
        let way = [Expression::Ct { register, key: ct::DIRECTION }, equal(vec![0])];
        let wrong: [Vec<Expression>; 3] = [
            vec![asked.clone(), equal(8_088u16.to_be_bytes())],
            way.clone().into_iter().chain([asked, equal(8_088u16.to_be_bytes())]).collect(),
            way.into_iter().chain([answered, equal(8_088u16.to_be_bytes())]).collect(),
        ];
        let found = host
            .run(|| {
                let mut batch = Batch::begin(1);
                for expressions in wrong {
                    batch.new_rule(&Rule {
                        table: "tipstaff".into(),
                        chain: "forwarded".into(),
                        expressions,
                        ..Rule::default()
                    });
                }
                send(batch, "rules of others in our table");
                read(&mut netfilter())
            })
            .expect("entered")
            .expect("read")
            .expect("rules");
        let tests = all(&found.program);
        assert_eq!(tests.iter().filter(|it| is_published(it)).count(), 1, "{tests:?}");
        let opaque = tests.iter().filter(|it| matches!(it, Test::Opaque(_))).count();
        assert!(opaque >= 3, "{tests:?}");
    });
}
