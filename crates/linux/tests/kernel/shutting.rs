//! The shut door, with real connections.

use crate::remembered::{CLOSED, datagram, sluice};
use crate::world::{netfilter, plan};
use std::io::{ErrorKind, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tipstaff_core::policy::Time;
use tipstaff_core::program::lower;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{address, connect_from, sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{Shut, door, enforce, open, read, shut};
use tipstaff_linux::{Session, Transport as _, deliver};
use tipstaff_wire::nf_tables as nf;

const OWN: [&str; 2] = ["192.0.2.10", "2001:db8:2::10"];
const PEER: [&str; 2] = ["203.0.113.9", "2001:db8:bad::9"];

fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).expect("a clock");
    i64::try_from(since.as_secs()).expect("fits")
}

fn close(host: &Node, session: Option<Session>, until: Option<Time>) -> Shut {
    let how = Shut { since: now(), until, session, why: "a test".into() };
    host.run(|| shut(&mut netfilter(), &how)).expect("entered").expect("shut");
    let door = host.run(|| door(&mut netfilter())).expect("entered").expect("read");
    let door = door.expect("it is there");
    assert!(door.intact);
    assert_eq!(door.shut, how);
    how
}

/// Whether a byte gets from one end to the other.
fn carries(from: &mut TcpStream, to: &mut TcpStream) -> bool {
    to.set_read_timeout(Some(Duration::from_millis(300))).expect("set");
    from.write_all(b"x").expect("sent");
    match to.read(&mut [0; 1]) {
        Ok(length) => length == 1,
        Err(error) => {
            assert_eq!(error.kind(), ErrorKind::WouldBlock);
            false
        }
    }
}

#[test]
fn nothing_passes_a_shut_door_but_loopback_and_the_session() {
    sealed("shutting::nothing_passes_a_shut_door_but_loopback_and_the_session", || {
        for version in 0..2 {
            let lab = street_sluice_granary();
            let (host, rain) = sluice(&lab);
            let street = lab.node("street").expect("it");
            let program = lower(&plan(CLOSED));
            let at = |port| SocketAddr::new(address(OWN[version]), port);
            let peer: IpAddr = address(PEER[version]);
            let listener = host.run(|| TcpListener::bind("[::]:443")).expect("entered");
            let listener = listener.expect("bound");
            let outside = street.run(|| UdpSocket::bind(SocketAddr::new(peer, 53)));
            let outside = outside.expect("entered").expect("bound");
            outside.set_read_timeout(Some(Duration::from_millis(300))).expect("set");
            let inside = host.run(|| UdpSocket::bind(at(0))).expect("entered").expect("bound");
            let connect = || {
                let made = street.run(|| connect_from(SocketAddr::new(peer, 0), at(443)));
                made.expect("entered")
            };
            let pair = || {
                let near = connect().expect("connected");
                (near, listener.accept().expect("accepted").0)
            };
            let (mut session, mut other) = (pair(), pair());
            let ends = Session {
                client: peer,
                client_port: session.0.local_addr().expect("told").port(),
                server: address(OWN[version]),
                port: 443,
            };
            let asks = || {
                let to = SocketAddr::new(peer, 53);
                match inside.send_to(b"?", to) {
                    Err(error) => assert_eq!(error.kind(), ErrorKind::PermissionDenied),
                    Ok(_) => return outside.recv(&mut [0; 8]).is_ok(),
                }
                false
            };
            let before = host.run(|| read(&mut netfilter())).expect("entered").expect("read");
            assert!(asks() && carries(&mut other.0, &mut other.1));

            close(host, Some(ends), None);
            assert!(carries(&mut session.0, &mut session.1), "the session goes on");
            assert!(carries(&mut session.1, &mut session.0), "both ways");
            assert!(!carries(&mut other.0, &mut other.1) && !carries(&mut other.1, &mut other.0));
            assert!(connect().is_err() && !asks());
            let own = host.run(|| TcpStream::connect("127.0.0.1:443")).expect("entered");
            own.expect("loopback passes");
            drop(listener.accept().expect("accepted"));
            rain.send(&datagram(address("203.0.113.9"), 9, 1));
            close(host, None, None);
            assert!(!carries(&mut session.0, &mut session.1), "nor does the session");
            let turned = host.run(|| door(&mut netfilter())).expect("entered").expect("read");
            assert!(turned.expect("there").turned_away > 0);

            // All is as it was, and nothing has been taken down meanwhile.
            let opened = || open(&mut netfilter());
            assert!(host.run(opened).expect("entered").expect("open"));
            assert!(!host.run(opened).expect("entered").expect("open"));
            assert_eq!(host.run(|| door(&mut netfilter())).expect("entered").expect("read"), None);
            let after = host.run(|| read(&mut netfilter())).expect("entered").expect("read");
            let (before, after) = (before.expect("there"), after.expect("there"));
            assert_eq!(before.program, program);
            assert_eq!(after.program, before.program);
            assert!(connect().is_ok() && asks());
        }
    });
}

#[test]
fn a_door_that_is_shut_for_a_time_opens_by_itself() {
    sealed("shutting::a_door_that_is_shut_for_a_time_opens_by_itself", || {
        let lab = street_sluice_granary();
        let (host, _) = sluice(&lab);
        let street = lab.node("street").expect("it");
        let listener = host.run(|| TcpListener::bind("[::]:443")).expect("entered");
        let _listener = listener.expect("bound");
        let from = SocketAddr::new(address(PEER[0]), 0);
        let to = SocketAddr::new(address(OWN[0]), 443);
        let connects = || street.run(|| connect_from(from, to)).expect("entered").is_ok();
        // Later than the last try of whoever connects meanwhile.
        let until = Time::from_seconds(now() + 10);
        close(host, None, Some(until));
        assert!(!connects());
        while now() < until.seconds() {
            std::thread::sleep(Duration::from_millis(50));
        }
        assert!(connects());
    });
}

#[test]
fn what_somebody_changes_about_a_shut_door_is_seen() {
    sealed("shutting::what_somebody_changes_about_a_shut_door_is_seen", || {
        let lab = street_sluice_granary();
        let (host, _) = sluice(&lab);
        let rule = |chain: &str, verdict| nf::Rule {
            table: "tipstaff-shut".into(),
            chain: chain.into(),
            expressions: vec![nf::Expression::Immediate(verdict)],
            ..nf::Rule::default()
        };
        let table =
            |flags| nf::Table { name: "tipstaff-shut".into(), flags, ..nf::Table::default() };
        let changes: [&(dyn Fn(&mut nf::Batch) -> u32 + Sync); 3] = [
            &|batch| batch.new_rule(&rule("inbound/shut", nf::Verdict::Accept)),
            &|batch| batch.new_rule(&rule("outbound", nf::Verdict::Accept)),
            // Put to sleep.
            &|batch| batch.new_table(&table(1)),
        ];
        for change in changes {
            close(host, None, None);
            host.run(|| {
                let mut kernel = netfilter();
                let mut batch = nf::Batch::begin(kernel.next_sequence());
                change(&mut batch);
                let refusals = deliver(&mut kernel, "change", &batch.finish().expect("fits"));
                assert_eq!(refusals.expect("told"), []);
                let found = door(&mut kernel).expect("read").expect("there");
                assert!(!found.intact);
            })
            .expect("entered");
        }
        // Whoever shuts it again has what was meant, and rules that are enforced meanwhile do not open it.
        close(host, None, None);
        let program = lower(&plan(CLOSED));
        let held = host.run(|| enforce(&mut netfilter(), "sluice", &program)).expect("entered");
        held.expect("enforced");
        assert!(host.run(|| door(&mut netfilter())).expect("entered").expect("read").is_some());
    });
}
