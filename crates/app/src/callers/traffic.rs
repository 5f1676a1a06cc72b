//! What callers wanted, in the words of the policy.

use tipstaff_core::policy::KNOWN_SERVICES;
use tipstaff_core::space::{ICMP, ICMPV6, PortProtocol, RangeSet, TrafficSet, icmp_kinds};
use tipstaff_linux::ruleset::Wanted;

/// What stands where there was no room to tell.
pub(super) const SEVERAL: &str = "several";

/// The traffic as a term of the policy; where there is none for so little, one for more.
pub(crate) fn term(wanted: Wanted) -> String {
    match wanted {
        Wanted::Port(protocol, port) => match PortProtocol::of_number(protocol) {
            Some(it) => format!("{port}/{it}"),
            None => format!("proto:{protocol}"),
        },
        Wanted::Icmp(protocol, kind, _) => {
            let named = icmp_kinds().find(|it| {
                let of = if protocol == ICMP { it.v4 } else { it.v6 };
                of == Some(kind)
            });
            match named {
                Some(it) => format!("icmp:{}", it.name),
                None => format!("icmp (type {kind})"),
            }
        }
        Wanted::Protocol(protocol) => format!("proto:{protocol}"),
        Wanted::Several => SEVERAL.into(),
    }
}

/// The same as a set; `None` where that is not known.
pub(crate) fn of(wanted: Wanted) -> Option<TrafficSet> {
    Some(match wanted {
        Wanted::Port(protocol, port) => match PortProtocol::of_number(protocol) {
            Some(it) => it.traffic(RangeSet::single(port)),
            None => TrafficSet::protocol(protocol),
        },
        Wanted::Icmp(ICMPV6, kind, _) => {
            TrafficSet::icmp(RangeSet::empty(), RangeSet::single(kind))
        }
        Wanted::Icmp(_, kind, _) => TrafficSet::icmp(RangeSet::single(kind), RangeSet::empty()),
        Wanted::Protocol(protocol) => TrafficSet::protocol(protocol),
        Wanted::Several => return None,
    })
}

/// The registered service of a port.
pub(crate) fn service(term: &str) -> Option<String> {
    let found = KNOWN_SERVICES.iter().find(|it| it.terms.contains(&term));
    found.map(|it| it.name.to_owned())
}
