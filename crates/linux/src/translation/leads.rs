//! Which parts of rules lead packets elsewhere: for whoever wants to know whether any does.

use super::older::{Part, part};
use tipstaff_wire::Attributes;
use tipstaff_wire::nf_tables::{Expression, Verdict};

/// `NF_NAT_MANIP_DST` (`enum nft_nat_types`): where a packet goes.
pub(crate) const DESTINATION: u32 = 1;

/// Whether what writes into a packet writes over an address or a port: of the IP header what is behind its first twelve
/// bytes, of the one behind it the first four (`NFTA_PAYLOAD_*` in linux/netfilter/nf_tables.h). `None` if that is not
/// understood.
fn rewrites(data: &[u8]) -> Option<bool> {
    let (mut base, mut offset, mut length) = (None, None, None);
    for attribute in Attributes::new(data, "what writes into packets") {
        let attribute = attribute.ok()?;
        let number = attribute.be32("its place").ok();
        match attribute.kind {
            2 => base = number,
            3 => offset = number,
            4 => length = number,
            _ => {}
        }
    }
    let end = offset?.checked_add(length?)?;
    Some(match base? {
        // NFT_PAYLOAD_LL_HEADER, _NETWORK_HEADER, _TRANSPORT_HEADER.
        0 => false,
        1 => end > 12,
        2 => offset? < 4,
        _ => true,
    })
}

/// Whether an expression leads packets to another address or port than they went to; also if that is not understood.
pub(crate) fn leads(expression: &Expression) -> bool {
    match expression {
        Expression::Nat { kind, .. } => *kind == DESTINATION,
        Expression::Redirect { .. } | Expression::Tproxy { .. } => true,
        Expression::Other { name, data } if name == "target" => match part(name, data, true) {
            Some(part) => matches!(part, Part::Leads { .. } | Part::Here { .. }),
            None => true,
        },
        Expression::Other { name, data } if name == "payload" => rewrites(data) != Some(false),
        Expression::Other { name, .. } => ["tproxy", "nat", "redir"].contains(&name.as_str()),
        _ => false,
    }
}

/// Whether an expression keeps packets out, or may.
pub(super) fn keeps_out(expression: &Expression) -> bool {
    match expression {
        // A program that is handed a packet may not give it back.
        Expression::Immediate(verdict) => matches!(verdict, Verdict::Drop | Verdict::Other(0.., _)),
        Expression::Lookup { to_verdict, .. } => *to_verdict,
        Expression::Reject { .. } => true,
        Expression::Other { name, data } if name == "target" => part(name, data, true).is_none(),
        Expression::Other { name, .. } => ["queue", "synproxy"].contains(&name.as_str()),
        _ => false,
    }
}
