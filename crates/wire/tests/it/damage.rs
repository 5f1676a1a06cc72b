//! Damaged bytes end in an error or in a value, never in a panic or a loop.

use crate::golden::{ADDRESS, ADDRESS_V6, BAD_PREFIX, NO_TABLE, TCP_LISTENER, UDP_SOCKET, bytes};
use crate::round_trips::rule;
use proptest::prelude::{any, proptest};
use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::{
    Batch, Chain, Copied, KINDS, Rule, Set, Table, decode_elements, decode_generation,
};
use tipstaff_wire::packet::{Payload, build, parse};
use tipstaff_wire::{Attributes, conntrack, gateway, nflog, route, sock_diag};

/// Hands bytes to every decoder.
fn decode_all(bytes: &[u8]) {
    let _ = Table::decode(bytes);
    let _ = Chain::decode(bytes);
    let _ = Rule::decode(bytes);
    let _ = Set::decode(bytes);
    let _ = decode_elements(bytes);
    let _ = nflog::decode(bytes);
    let _ = sock_diag::decode(bytes);
    let _ = conntrack::decode(bytes);
    let _ = decode_generation(bytes);
    let _ = route::decode_address(bytes);
    let _ = route::decode_link(bytes);
    let _ = route::decode_route(bytes);
    let _ = gateway::decode_own(bytes);
    let _ = gateway::decode_gateway(bytes);
    let _ = gateway::decode_neighbour(bytes);
    for kind in &KINDS {
        let copied = Copied::decode(kind, bytes, 1);
        if let Ok(copied) = copied {
            let mut batch = Batch::begin(1);
            batch.again(&copied);
            let again = batch.finish().expect("no longer than what was read").bytes;
            // What is made again says the same as what was read.
            let body = split(&again).expect("whole")[1].body.to_vec();
            assert_eq!(Copied::decode(kind, &body, 1).as_ref(), Ok(&copied));
        }
    }
    let _ = parse(bytes);
    for message in split(bytes).unwrap_or_default() {
        let _ = message.answer();
    }
    assert!(Attributes::new(bytes, "noise").count() <= bytes.len() / 4 + 1);
}

proptest! {
    #[test]
    fn noise(noise in proptest::collection::vec(any::<u8>(), 0..200)) {
        decode_all(&noise);
    }

    #[test]
    fn real_bytes_with_some_changed(
        which in 0usize..6,
        changes in proptest::collection::vec((any::<usize>(), any::<u8>()), 1..5),
    ) {
        let real = [TCP_LISTENER, UDP_SOCKET, NO_TABLE, BAD_PREFIX, ADDRESS, ADDRESS_V6];
        let mut bytes = bytes(real[which]);
        for (at, value) in changes {
            let at = at % bytes.len();
            bytes[at] = value;
        }
        decode_all(&bytes);
    }
}

#[test]
fn a_cut_rule_is_never_taken_for_a_whole_one() {
    let mut batch = Batch::begin(1);
    batch.new_rule(&rule());
    let bytes = batch.finish().expect("fits").bytes;
    let messages = split(&bytes).expect("splits");
    let whole = messages[1].body;
    assert_eq!(Rule::decode(whole), Ok(rule()));
    // The last two bytes are padding.
    for cut in 0..whole.len() - 2 {
        assert_ne!(Rule::decode(&whole[..cut]), Ok(rule()), "cut at {cut}");
    }
}

#[test]
fn cut_headers_are_errors() {
    let socket = bytes(TCP_LISTENER);
    for cut in 0..72 {
        assert!(sock_diag::decode(&socket[..cut]).is_err(), "cut at {cut}");
    }
    for (digits, needed) in [(NO_TABLE, 44), (BAD_PREFIX, 68)] {
        let refusal = bytes(digits);
        for cut in (1..needed).filter(|cut| *cut < refusal.len()) {
            assert!(split(&refusal[..cut]).is_err(), "cut at {cut}");
        }
    }
}

#[test]
fn cut_packets_are_foreign_or_the_same() {
    let source = "198.51.100.7".parse().expect("an address");
    let destination = "192.0.2.10".parse().expect("an address");
    for payload in [Payload::Udp { source: 9, destination: 53 }, Payload::Icmp { kind: 3 }] {
        let packet = build(source, destination, payload, 5);
        let whole = parse(&packet);
        for cut in 0..packet.len() {
            let found = parse(&packet[..cut]);
            assert!(found == whole || found == tipstaff_wire::packet::Seen::Foreign, "{cut}");
        }
    }
}
