//! Keeping single flows quiet for a time, so that they are forgotten at both ends.
//!
//! A flow that the kernel merely forgets is picked up again by its next packet, possibly by one that the
//! host itself sends, and then counts as the host's own. So its packets are dropped ahead of connection
//! tracking, both ways, until nobody expects it to go on. That has a table of its own: ours stays what
//! the policy says.

use super::ledger::{Ledger, send};
use super::read::tables;
use crate::LinuxError;
use crate::transport::Transport;
use std::net::IpAddr;
use std::time::Duration;
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Element, Expression, Hook, MetaKey, Verdict, registers,
    set_flags,
};

/// The name of the table.
pub(super) const TABLE: &str = "tipstaff-quiet";
/// How long: longer than the kernel remembers a UDP flow that has gone both ways
/// (`nf_conntrack_udp_timeout_stream`, 120 seconds).
const QUIET: Duration = Duration::from_secs(180);
/// More flows than this at a time are not kept quiet.
const MOST: u32 = 65_536;
/// Ahead of connection tracking (`NF_IP_PRI_CONNTRACK`, -200), behind the putting together of
/// fragments (`NF_IP_PRI_CONNTRACK_DEFRAG`, -400).
const PRIORITY: i32 = -310;
/// `NFPROTO_IPV4`, `NFPROTO_IPV6`.
const VERSIONS: [(u8, &str, u32, u32); 2] = [(2, "v4", 12, 4), (10, "v6", 8, 16)];

/// One direction of a flow, of a protocol with ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Tuple {
    /// The protocol's number in the IP header.
    pub protocol: u8,
    /// The end that the packets come from.
    pub source: (IpAddr, u16),
    /// The end that the packets go to.
    pub destination: (IpAddr, u16),
}

impl Tuple {
    fn turned(self) -> Self {
        Self { source: self.destination, destination: self.source, ..self }
    }

    /// As the rules put it together: protocol, addresses, ports, each in whole registers.
    fn key(self) -> Vec<u8> {
        let mut key = vec![self.protocol, 0, 0, 0];
        for address in [self.source.0, self.destination.0] {
            match address {
                IpAddr::V4(it) => key.extend(it.octets()),
                IpAddr::V6(it) => key.extend(it.octets()),
            }
        }
        key.extend(self.source.1.to_be_bytes());
        key.extend(self.destination.1.to_be_bytes());
        key
    }
}

/// Drops all packets of these flows, both ways, for [`QUIET`].
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub fn keep_quiet(transport: &mut dyn Transport, flows: &[Tuple]) -> Result<(), LinuxError> {
    if flows.is_empty() {
        return Ok(());
    }
    let there = is_there(transport)?;
    let mut batch = Batch::begin(transport.next_sequence());
    if !there {
        batch.new_table(&nf::Table { name: TABLE.into(), ..nf::Table::default() });
    }
    for (number, (version, name, offset, length)) in VERSIONS.into_iter().enumerate() {
        let set = nf::Set {
            table: TABLE.into(),
            name: name.into(),
            flags: set_flags::TIMEOUT,
            key_length: 4 + 2 * length + 4,
            id: if there { 0 } else { u32::try_from(number).unwrap_or_default() + 1 },
            size: Some(MOST),
            timeout: Some(u64::try_from(QUIET.as_millis()).unwrap_or(u64::MAX)),
            ..nf::Set::default()
        };
        if !there {
            batch.new_set(&set);
            for (hook, chain) in [(Hook::PRE_ROUTING, "before"), (Hook::LOCAL_OUT, "outbound")] {
                if number == 0 {
                    batch.new_chain(&chain_at(hook, chain));
                }
                batch.new_rule(&drop_of(&set, version, offset, length, chain));
            }
        }
        let of_version = |it: &&Tuple| it.source.0.is_ipv4() == (version == VERSIONS[0].0);
        let both = flows.iter().filter(of_version).flat_map(|it| [*it, it.turned()]);
        let elements: Vec<Element> = both.map(|it| Element::key(it.key())).collect();
        batch.new_elements(&set, &elements);
    }
    send(transport, "keep ended connections quiet", batch, &Ledger::default())
}

fn chain_at(hook: u32, name: &str) -> nf::Chain {
    nf::Chain {
        table: TABLE.into(),
        name: name.into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number: hook, priority: PRIORITY }),
        policy: Some(1),
        ..nf::Chain::default()
    }
}

fn drop_of(set: &nf::Set, version: u8, offset: u32, length: u32, chain: &str) -> nf::Rule {
    // Registers of four bytes, one behind the other, are one key.
    let at = |bytes: u32| registers::FIRST_WORD + bytes / 4;
    let load =
        |base, offset, length, register| Expression::Payload { base, offset, length, register };
    nf::Rule {
        table: TABLE.into(),
        chain: chain.into(),
        expressions: vec![
            Expression::Meta { key: MetaKey::Family, register: registers::FIRST },
            Expression::Cmp { register: registers::FIRST, op: Compare::Equal, data: vec![version] },
            Expression::Meta { key: MetaKey::Protocol, register: at(0) },
            load(Base::Network, offset, length, at(4)),
            load(Base::Network, offset + length, length, at(4 + length)),
            load(Base::Transport, 0, 4, at(4 + 2 * length)),
            Expression::Lookup {
                register: at(0),
                set: set.name.clone(),
                id: set.id,
                flags: 0,
                to_verdict: false,
            },
            Expression::Counter { packets: 0, bytes: 0 },
            Expression::Immediate(Verdict::Drop),
        ],
        ..nf::Rule::default()
    }
}

/// Whether the table is in the kernel.
pub(super) fn is_there(transport: &mut dyn Transport) -> Result<bool, LinuxError> {
    let tables = tables(transport)?;
    Ok(tables.iter().any(|it| it.name == TABLE))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_has_the_protocol_both_addresses_and_both_ports() {
        let end = |text: &str, port| (text.parse().expect("an address"), port);
        let flow = Tuple {
            protocol: 17,
            source: end("203.0.113.9", 0x1234),
            destination: end("192.0.2.10", 0x5678),
        };
        let key = [17, 0, 0, 0, 203, 0, 113, 9, 192, 0, 2, 10, 0x12, 0x34, 0x56, 0x78];
        assert_eq!(flow.key(), key);
        let back = [17, 0, 0, 0, 192, 0, 2, 10, 203, 0, 113, 9, 0x56, 0x78, 0x12, 0x34];
        assert_eq!(flow.turned().key(), back);
        let six = Tuple {
            source: end("2001:db8:bad::9", 1),
            destination: end("2001:db8:2::10", 2),
            ..flow
        };
        assert_eq!(six.key().len(), 4 + 32 + 4);
        assert_eq!(six.key()[36..], [0, 1, 0, 2]);
    }
}
