//! What the kernel remembers lasts, and stands in nobody's way.

use crate::remembered::{CLOSED, datagram, recall, sluice};
use crate::world::{netfilter, plan};
use std::io;
use std::net::Ipv4Addr;
use std::time::Instant;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::lower;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{
    Caller, Marks, Wanted, Who, enforce, enforce_at, forget, generation, read, release, remind,
};
use tipstaff_linux::{NetlinkSocket, Transport};

#[test]
fn what_was_written_down_is_remembered_again() {
    sealed("carried_over::what_was_written_down_is_remembered_again", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let who = address("203.0.113.9");
        (0..3).for_each(|number| rain.send(&datagram(who, 9, number)));
        let mut before = recall(host).expect("it remembers");
        before.list.retain(|it| it.wanted == Wanted::Port(17, 9));
        // One was decided by a rule that is not there any more, one is too old.
        let gone = Caller { decision: RuleId::rule("gone"), ..before.list[0].clone() };
        let old = Caller { last: 8 * 86_400_000, wanted: Wanted::Port(6, 22), ..gone.clone() };
        before.list.extend([gone, old]);
        let fresh = || {
            let mut kernel = netfilter();
            release(&mut kernel).expect("released");
            enforce(&mut kernel, "sluice", &lower(&plan(CLOSED))).expect("enforced");
        };
        host.run(fresh).expect("entered");
        assert_eq!(recall(host).expect("it remembers").list, []);
        host.run(|| remind(&mut netfilter(), &before)).expect("entered").expect("reminded");
        rain.send(&datagram(who, 9, 3));
        let mut found: Vec<_> = recall(host)
            .expect("it remembers")
            .list
            .iter()
            .map(|it| (it.decision.to_string(), it.count, it.first.is_some()))
            .collect();
        found.sort();
        assert_eq!(found, [("default/inbound".into(), 4, true), ("gone".into(), 3, true)]);
        let program = lower(&plan(CLOSED));
        let held = host.run(|| read(&mut netfilter())).expect("entered").expect("read");
        assert_eq!(held.expect("there").program, program);
    });
}

/// A socket by which no more may be sent at once, as by those who are not root.
struct Narrow(NetlinkSocket);

impl Transport for Narrow {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        match bytes.len() {
            ..1_000_000 => self.0.send(bytes),
            _ => Err(io::Error::from_raw_os_error(libc::EMSGSIZE)),
        }
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        self.0.receive()
    }

    fn next_sequence(&mut self) -> u32 {
        self.0.next_sequence()
    }
}

#[test]
fn a_full_record_keeps_no_rules_from_being_replaced() {
    sealed("carried_over::a_full_record_keeps_no_rules_from_being_replaced", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        rain.send(&datagram(address("203.0.113.9"), 9, 0));
        let mut full = recall(host).expect("it remembers");
        let one = full.list.iter().find(|it| it.wanted == Wanted::Port(17, 9)).expect("it").clone();
        full.list = (0..65_536)
            .map(|number| Caller {
                who: Who::Address(Ipv4Addr::from_bits((11 << 24) + number).into()),
                last: u64::from(number) + 1,
                first: Some(u64::from(number) + 1),
                ..one.clone()
            })
            .collect();
        host.run(|| forget(&mut netfilter())).expect("entered").expect("forgotten");
        host.run(|| remind(&mut Narrow(netfilter()), &full)).expect("entered").expect("reminded");
        for (port, at_once) in [("8443/tcp", true), ("8444/tcp", false)] {
            let program = lower(&plan(&CLOSED.replace("443/tcp", port)));
            let begun = Instant::now();
            let held = host.run(|| {
                let kernel = &mut Narrow(netfilter());
                if at_once {
                    return enforce(kernel, "sluice", &program);
                }
                let (held, at) = (read(kernel)?, generation(kernel)?);
                let marks = Marks::default();
                enforce_at(kernel, held.as_ref(), ("sluice", &program, &marks), at, &[])
            });
            println!("replaced over a full record in {:.2?}", begun.elapsed());
            assert_eq!(held.expect("entered").expect("enforced").program, program);
            let found = recall(host).expect("it remembers").list;
            assert!(found.len() > 65_500, "{} are carried over", found.len());
            assert!(found.iter().all(|it| it.count == 1 && it.first.is_some()));
        }
    });
}
