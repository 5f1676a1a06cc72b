//! Traffic as policies write it.

use crate::space::{Family, ICMP_KINDS, IcmpKind, PortProtocol};

/// The policy's name for a type of ICMP.
pub(crate) fn name_of(kind: u8, family: Family) -> Option<&'static str> {
    let of = |it: &&IcmpKind| match family {
        Family::V4 => it.v4 == Some(kind),
        Family::V6 => it.v6 == Some(kind),
    };
    ICMP_KINDS.iter().find(of).map(|it| it.name)
}

/// Traffic terms for some ports. Port 0 is in no range of a policy, but in the whole protocol.
pub(crate) fn terms(ranges: &[(u16, u16)], protocol: PortProtocol) -> Vec<String> {
    let all = format!("proto:{}", protocol.number());
    match ranges.first() {
        Some((0, _)) => {
            let mut terms = vec![all];
            let mut next = 0u32;
            for &(first, last) in ranges {
                if u32::from(first) > next {
                    let before = u16::try_from(next).unwrap_or_default();
                    terms.push(format!("!{}/{protocol}", words((before, first - 1))));
                }
                next = u32::from(last) + 1;
            }
            if let Ok(rest) = u16::try_from(next) {
                terms.push(format!("!{}/{protocol}", words((rest, u16::MAX))));
            }
            terms
        }
        _ => ranges.iter().map(|it| format!("{}/{protocol}", words(*it))).collect(),
    }
}

pub(crate) fn words((first, last): (u16, u16)) -> String {
    if first == last { first.to_string() } else { format!("{first}-{last}") }
}
