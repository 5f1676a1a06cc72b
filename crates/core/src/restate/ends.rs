//! Senders and receivers as a policy writes them.

use super::factors::End;
use crate::space::{AddressSet, Family, Relation, loopback};

/// The terms; none for everybody, and `None` if no list says it.
pub(super) fn terms(parts: &[End<'_>]) -> Option<Vec<String>> {
    if let [(relations, addresses)] = parts
        && relations.is_full()
    {
        return Some(if addresses.is_full() { Vec::new() } else { of_addresses(addresses) });
    }
    about_the_host(parts)
}

/// Networks, or all but some, whichever is shorter.
pub(super) fn of_addresses(set: &AddressSet) -> Vec<String> {
    let mut words = Vec::new();
    for family in Family::BOTH {
        let all = AddressSet::full().only(family);
        let part = set.only(family);
        let (blocks, but) = (part.blocks(), all.difference(&part).blocks());
        if but.len() + all.blocks().len() < blocks.len() {
            words.extend(all.blocks().iter().map(ToString::to_string));
            words.extend(but.iter().map(|it| format!("!{it}")));
        } else {
            words.extend(blocks.iter().map(ToString::to_string));
        }
    }
    words
}

/// What is said of the host's own addresses, or of the networks that it is on.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Said {
    Nothing,
    Meant,
    LeftOut,
}

const SAID: [Said; 3] = [Said::Nothing, Said::Meant, Said::LeftOut];

/// For a host whose addresses change: a list says for each relation which addresses it means.
fn about_the_host(parts: &[End<'_>]) -> Option<Vec<String>> {
    let of = |relation: Relation| -> AddressSet {
        let with = parts.iter().filter(|it| it.0.contains(relation));
        with.map(|it| it.1.clone()).collect()
    };
    let meant = Relation::ALL.map(of);
    let [elsewhere, ..] = &meant;
    let all: AddressSet = meant.iter().cloned().collect();
    let nobody = AddressSet::empty();
    let left_out = [nobody.clone(), AddressSet::full().difference(&all)];
    // Of what is elsewhere, nothing is said but by addresses.
    for own in SAID {
        for link in SAID {
            for but in left_out.iter().chain([&AddressSet::full().difference(elsewhere)]) {
                let is_meant = [own, link].contains(&Said::Meant);
                for addresses in [None, Some(elsewhere)] {
                    let list = List { own, link, is_meant, addresses, but };
                    if Relation::ALL
                        .into_iter()
                        .zip(&meant)
                        .all(|(it, meant)| list.of(it) == *meant)
                    {
                        return Some(list.terms());
                    }
                }
            }
        }
    }
    None
}

/// A list of terms.
struct List<'s> {
    own: Said,
    link: Said,
    /// Whether either of them is named.
    is_meant: bool,
    addresses: Option<&'s AddressSet>,
    but: &'s AddressSet,
}

impl List<'_> {
    /// What it means of addresses that are that to the host.
    fn of(&self, relation: Relation) -> AddressSet {
        let (full, nobody) = (AddressSet::full(), AddressSet::empty());
        let own = if relation.own { full.difference(&loopback()) } else { nobody.clone() };
        let link = if relation.on_link { full.clone() } else { nobody.clone() };
        let of = |said: Said| {
            let own = if self.own == said { &own } else { &nobody };
            let link = if self.link == said { &link } else { &nobody };
            own.union(link)
        };
        let named = self.addresses.is_some_and(|it| !it.is_empty()) || self.is_meant;
        let meant = match named {
            true => self.addresses.cloned().unwrap_or_default().union(&of(Said::Meant)),
            false => full,
        };
        meant.difference(self.but).difference(&of(Said::LeftOut))
    }

    fn terms(&self) -> Vec<String> {
        let mut words = Vec::new();
        for (said, word) in [(self.own, "this-host"), (self.link, "on-link")] {
            match said {
                Said::Nothing => {}
                Said::Meant => words.push(word.to_owned()),
                Said::LeftOut => words.push(format!("!{word}")),
            }
        }
        words.extend(
            self.addresses.into_iter().flat_map(AddressSet::blocks).map(|it| it.to_string()),
        );
        words.extend(self.but.blocks().iter().map(|it| format!("!{it}")));
        words
    }
}
