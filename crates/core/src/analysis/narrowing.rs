//! Who used a rule, as the fewest words that still let all of them in.

use crate::policy::{Place, Span};
use crate::space::AddressSet;
use std::collections::BTreeSet;

/// How narrow a rule is to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Narrowness {
    /// Places that hold who used it, or else their networks: of 24 bits of IPv4, 64 of IPv6.
    Networks,
    /// The addresses that used it, and no others.
    Addresses,
}

/// What a narrower rule would name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Narrowed {
    /// Names of places, networks and addresses.
    pub terms: Vec<String>,
    /// What they stand for.
    pub addresses: AddressSet,
}

/// The terms for those of `allowed` that are `used`. Of places that hold an address the smallest is named, if all
/// of it is allowed already: nothing is opened, and a place that is everything narrows nothing.
#[must_use]
pub fn narrowed(
    used: &AddressSet,
    allowed: &AddressSet,
    places: &[Place],
    to: Narrowness,
) -> Narrowed {
    let used = used.intersection(allowed);
    if to == Narrowness::Addresses {
        let terms = used.blocks().iter().map(ToString::to_string).collect();
        return Narrowed { terms, addresses: used };
    }
    let mut fitting: Vec<(u128, &Place)> = places
        .iter()
        .filter(|it| !it.addresses.is_empty())
        .filter(|it| it.addresses != *allowed && it.addresses.difference(allowed).is_empty())
        .map(|it| (it.addresses.size(), it))
        .collect();
    fitting.sort_by_key(|it| it.0);
    let (mut named, mut rest) = (Vec::new(), used);
    for (_, place) in fitting {
        let left = rest.difference(&place.addresses);
        if left != rest {
            named.push(place);
            rest = left;
        }
    }
    // What a smaller place holds, one that had to be named anyway may hold as well.
    let needless = |at: &usize| {
        let others = named.iter().enumerate().filter(|it| it.0 != *at);
        others.into_iter().any(|it| named[*at].addresses.difference(&it.1.addresses).is_empty())
    };
    let kept: BTreeSet<usize> = (0..named.len()).filter(|at| !needless(at)).collect();
    let mut terms: Vec<String> = kept.iter().map(|at| named[*at].name.clone()).collect();
    terms.sort();
    let held: AddressSet = kept.iter().map(|at| named[*at].addresses.clone()).collect();
    let networks = networks(&rest).intersection(allowed).difference(&held);
    terms.extend(networks.blocks().iter().map(ToString::to_string));
    Narrowed { terms, addresses: held.union(&networks) }
}

/// The networks of 24 bits of IPv4, and of 64 of IPv6, that hold the addresses.
fn networks(addresses: &AddressSet) -> AddressSet {
    let v4 = addresses.v4.ranges().iter().map(|(first, last)| (first & !0xff, last | 0xff));
    let bits = u128::from(u64::MAX);
    let v6 = addresses.v6.ranges().iter().map(|(first, last)| (first & !bits, last | bits));
    AddressSet::from_v4(v4).union(&AddressSet::from_v6(v6))
}

/// A time in words, no longer than it was: in days from two days on, else in hours, or less.
#[must_use]
pub fn lasting(seconds: u64) -> String {
    let unit = match seconds {
        172_800.. => 86_400,
        7_200.. => 3_600,
        120.. => 60,
        _ => 1,
    };
    if seconds == 0 {
        return "moment".into();
    }
    let whole = u32::try_from(seconds / unit * unit).unwrap_or(u32::MAX);
    Span { seconds: whole }.to_string()
}

#[cfg(test)]
mod tests {
    use super::{Narrowness, lasting, narrowed};
    use crate::policy::{Source, read};
    use crate::space::{AddressSet, Block};

    fn set(texts: &[&str]) -> AddressSet {
        texts.iter().map(|it| Block::parse(it).expect("a block").addresses()).collect()
    }

    #[test]
    fn places_are_named_before_networks_and_nothing_is_opened() {
        let text = "edition = 1\n[place.everybody]\naddresses = [\"0.0.0.0/0\", \"::/0\"]\n\
            [place.curators]\naddresses = [\"198.51.100.0/27\"]\n\
            [place.office]\naddresses = [\"198.51.100.0/24\"]\n\
            [place.desk]\naddresses = [\"198.51.100.7\"]\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n";
        let places = read(&Source::new("policy.toml", text)).expect("a policy").places;
        let told = |used: &[&str], allowed: &AddressSet, to| {
            narrowed(&set(used), allowed, &places, to).terms.join(" ")
        };
        let all = AddressSet::full();
        let networks = |used: &[&str]| told(used, &all, Narrowness::Networks);
        assert_eq!(networks(&["198.51.100.7"]), "desk");
        assert_eq!(networks(&["198.51.100.7", "198.51.100.9"]), "curators");
        assert_eq!(networks(&["198.51.100.9", "198.51.100.99"]), "office");
        assert_eq!(networks(&["198.51.100.7", "10.44.8.30", "10.44.9.1"]), "desk 10.44.8.0/23");
        assert_eq!(networks(&["2001:db8:4::9"]), "2001:db8:4::/64");
        assert_eq!(networks(&[]), "");
        let addresses = told(&["198.51.100.6", "198.51.100.7"], &all, Narrowness::Addresses);
        assert_eq!(addresses, "198.51.100.6/31");
        // What the rule itself names narrows nothing, and what reaches further opens.
        let curators = set(&["198.51.100.0/27"]);
        assert_eq!(told(&["198.51.100.9"], &curators, Narrowness::Networks), "198.51.100.0/27");
        assert_eq!(told(&["10.44.8.30"], &curators, Narrowness::Networks), "");
    }

    #[test]
    fn times_are_never_said_to_be_longer_than_they_were() {
        for (seconds, words) in [
            (0, "moment"),
            (119, "119 seconds"),
            (7_199, "119 minutes"),
            (172_799, "47 hours"),
            (604_799, "6 days"),
            (604_800, "7 days"),
        ] {
            assert_eq!(lasting(seconds), words);
        }
    }
}
