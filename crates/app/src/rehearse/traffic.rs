//! Traffic in words.

use tipstaff_core::space::{Family, RangeSet, TrafficSet};

/// Messages that go by a name: over IPv4 and IPv6 each, and their types.
const NAMED: [Named; 4] = [
    Named { name: "ping", family: Family::V4, types: &[(8, 8)] },
    Named { name: "ping", family: Family::V6, types: &[(128, 128)] },
    // RFC 4861.
    Named { name: "neighbour discovery", family: Family::V6, types: &[(133, 136)] },
    // RFC 2710, RFC 3810.
    Named {
        name: "multicast listener discovery",
        family: Family::V6,
        types: &[(130, 132), (143, 143)],
    },
];

struct Named {
    name: &'static str,
    family: Family,
    types: &'static [(u8, u8)],
}

/// Traffic in words; all that can be tried is `everything`.
pub(crate) fn traffic_words(set: &TrafficSet, family: Family) -> String {
    let icmp = if family == Family::V4 { &set.icmp } else { &set.icmpv6 };
    if set.ports.values().all(RangeSet::is_full) && icmp.is_full() {
        return "everything".into();
    }
    let mut rest = set.clone();
    let mut names = Vec::new();
    for named in NAMED {
        let types = RangeSet::from_ranges(named.types.iter().copied());
        let own = match family {
            Family::V4 => &mut rest.icmp,
            Family::V6 => &mut rest.icmpv6,
        };
        if named.family == family && types.difference(own).is_empty() && !own.is_full() {
            *own = own.difference(&types);
            names.push(named.name);
        }
    }
    let rest = rest.to_string();
    let rest = (!rest.is_empty()).then_some(rest.as_str());
    rest.into_iter().chain(names).collect::<Vec<_>>().join(", ")
}
