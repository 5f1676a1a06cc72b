//! Leading a port of a machine elsewhere, as those do who publish ports.

use crate::LinuxError;
use crate::ruleset::{self, Ledger};
use crate::transport::{NetlinkSocket, Protocol, Transport as _};
use std::net::{IpAddr, SocketAddr};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Expression, FAMILY_IPV4, FAMILY_IPV6, Hook, MetaKey,
    registers,
};

/// Where destinations are translated (`NF_IP_PRI_NAT_DST`).
const PRIORITY: i32 = -100;
/// `NFT_NAT_DNAT`.
const DESTINATION: u32 = 1;
const TCP: u8 = 6;

/// Puts a table of that name into the calling thread's namespace, which leads a TCP port of whoever is asked
/// there to another address, in the IP version of that.
///
/// # Errors
/// [`LinuxError`] if the system refuses.
pub fn lead_elsewhere(table: &str, port: u16, to: SocketAddr) -> Result<(), LinuxError> {
    let (first, second) = (registers::FIRST, registers::FIRST + 1);
    let (family, address) = match to.ip() {
        IpAddr::V4(it) => (FAMILY_IPV4, it.octets().to_vec()),
        IpAddr::V6(it) => (FAMILY_IPV6, it.octets().to_vec()),
    };
    let equal = |data: Vec<u8>| Expression::Cmp { register: first, op: Compare::Equal, data };
    let expressions = vec![
        Expression::Meta { key: MetaKey::Family, register: first },
        equal(vec![family]),
        Expression::Meta { key: MetaKey::Protocol, register: first },
        equal(vec![TCP]),
        Expression::Payload { base: Base::Transport, offset: 2, length: 2, register: first },
        equal(port.to_be_bytes().to_vec()),
        Expression::Load { register: first, data: address },
        Expression::Load { register: second, data: to.port().to_be_bytes().to_vec() },
        Expression::Nat {
            kind: DESTINATION,
            family: family.into(),
            address: Some(first),
            last_address: Some(first),
            port: Some(second),
            last_port: Some(second),
            flags: 0,
        },
    ];
    let chain = || "published".to_owned();
    let mut socket = NetlinkSocket::open(Protocol::Netfilter)?;
    let mut batch = Batch::begin(socket.next_sequence());
    batch.new_table(&nf::Table { name: table.into(), ..nf::Table::default() });
    batch.new_chain(&nf::Chain {
        table: table.into(),
        name: chain(),
        kind: Some("nat".into()),
        hook: Some(Hook { number: Hook::PRE_ROUTING, priority: PRIORITY }),
        policy: Some(1),
        ..nf::Chain::default()
    });
    batch.new_rule(&nf::Rule {
        table: table.into(),
        chain: chain(),
        expressions,
        ..nf::Rule::default()
    });
    ruleset::send(&mut socket, "lead a port elsewhere in the lab", batch, &Ledger::default())
}
