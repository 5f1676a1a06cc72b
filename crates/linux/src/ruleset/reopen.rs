//! New connections from where old ones came.
//!
//! For up to a minute after a connection has ended, the kernel keeps a remainder of its socket
//! (TIME-WAIT, RFC 9293 section 3.6). A new connection between the same two ends meets that
//! remainder first, which has no mark, and comes to the listener only behind all rules: they could
//! not tell whose it will be. So, where whose it is decides, the kernel is asked ahead of routing
//! to give up the remainder for the listener, if there is one. It has a means for that which was
//! made for transparent proxies (`nf_tproxy_handle_time_wait4` in nf_tproxy_ipv4.c); for a socket
//! that is no such proxy's it does nothing else.

use super::decode::{self, Sets};
use super::keys;
use super::names::TABLE;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, ProgramRule, Test};
use tipstaff_core::space::{Family, RangeSet, TCP};
use tipstaff_wire::nf_tables::{
    Base, Chain, Compare, Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, Hook, Rule, SocketKey,
    registers,
};

/// The name of the chain.
pub(super) const CHAIN: &str = "reopened";

/// The flags of a TCP header (RFC 9293 section 3.1): where they are, and FIN, SYN, RST and ACK.
const FLAGS: u32 = 13;
const ENDS_OR_GOES_ON: u8 = 0x01 | SYN | 0x04 | 0x10;
const SYN: u8 = 0x02;

/// The chain, behind the translation of addresses.
pub(super) fn chain() -> Chain {
    Chain {
        table: TABLE.into(),
        name: CHAIN.into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number: Hook::PRE_ROUTING, priority: 0 }),
        policy: Some(1),
        family: FAMILY_INET,
    }
}

/// What the chain does for one IP version, as far as rules can say it; [`last_steps`] follow.
pub(crate) fn first_steps(family: Family, ports: &RangeSet<u16>) -> ProgramRule {
    // Every packet that comes in meets this: what spares most of them the rest comes first.
    let tests = vec![
        Test::Protocol(RangeSet::single(TCP)),
        Test::DestinationPort(ports.clone()),
        Test::Family(family),
    ];
    ProgramRule { id: None::<RuleId>, tests, action: Action::Opaque(CHAIN.into()) }
}

/// What only this chain does.
pub(crate) fn last_steps(family: Family) -> Vec<Expression> {
    let register = registers::FIRST;
    let (address, length) = keys::destination(family);
    let family = match family {
        Family::V4 => FAMILY_IPV4,
        Family::V6 => FAMILY_IPV6,
    };
    vec![
        // A connection begins.
        Expression::Payload { base: Base::Transport, offset: FLAGS, length: 1, register },
        Expression::Bitwise {
            source: register,
            destination: register,
            length: 1,
            mask: vec![ENDS_OR_GOES_ON],
            xor: vec![0],
        },
        Expression::Cmp { register, op: Compare::Equal, data: vec![SYN] },
        // The socket is not that of a transparent proxy: those of others are left alone.
        Expression::Socket { key: SocketKey::Transparent, register },
        Expression::Cmp { register, op: Compare::Equal, data: vec![0] },
        Expression::Payload { base: Base::Network, offset: address, length, register },
        Expression::Tproxy { family: family.into(), address: register },
    ]
}

/// The IP version and the ports of a rule of the chain; `None` if it is not one that we make.
pub(super) fn read(rule: &Rule, sets: &Sets) -> Option<(Family, RangeSet<u16>)> {
    Family::BOTH.into_iter().find_map(|family| {
        let rest = rule.expressions.strip_suffix(last_steps(family).as_slice())?;
        let first = Rule { expressions: rest.to_vec(), ..rule.clone() };
        let tests = decode::rule(&first, sets, false).rule.tests;
        let Some(Test::DestinationPort(ports)) = tests.get(1) else { return None };
        (tests == first_steps(family, ports).tests).then(|| (family, ports.clone()))
    })
}

/// The ports of a chain, from its rules; `None` if it is not as we make it.
pub(super) fn ports(
    found: &Chain,
    rules: &[Option<(Family, RangeSet<u16>)>],
) -> Option<RangeSet<u16>> {
    let [Some((Family::V4, ports)), Some((Family::V6, same))] = rules else { return None };
    (*found == chain() && ports == same).then(|| ports.clone())
}
