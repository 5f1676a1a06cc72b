//! Regions of packets in words.

mod terms;

use crate::vocabulary as say;
use serde::Serialize;
use std::net::IpAddr;
use terms::{by_meaning, carries_version, enclosing, nested, traffic, written};
use tipstaff_core::plan::{HostPlan, LOOPBACK};
use tipstaff_core::policy::{ANYWHERE, ON_LINK, Policy, THIS_HOST};
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, NameSet, Piece, RangeSet, RelationSet,
    loopback, to_many,
};

/// Packets that pass a test on each field. What is not narrowed is empty.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct RegionWords {
    /// The protocols, ports and ICMP types that they carry.
    pub traffic: String,
    /// Where they come from: places, networks, addresses, ranges.
    pub from: Vec<String>,
    /// Senders that are not meant, though `from` names them.
    pub from_except: Vec<String>,
    /// The addresses that they go to.
    pub to: Vec<String>,
    /// Receivers that are not meant.
    pub to_except: Vec<String>,
    /// `IPv4` or `IPv6` if they are of one version only, which `from` and `to` do not show.
    pub version: Option<say::Version>,
    /// The ports they come from.
    pub source_ports: Option<String>,
    /// The ports that their senders asked for before they were led here; `!` ahead: all but these, and those
    /// that were not led; `null` if it does not matter.
    pub published: Option<String>,
    /// The interfaces by which they come in.
    pub ingress: Option<String>,
    /// The interfaces by which they go out.
    pub egress: Option<String>,
    /// The programs that receive or send them.
    pub programs: Option<String>,
    /// The users whose programs receive or send it; `null` if that does not matter.
    pub users: Option<String>,
    /// The states of their connections, if first packets are not among them.
    pub states: Vec<&'static str>,
}

/// Puts regions into words, with the names that a policy has for addresses.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Words<'p> {
    policy: &'p Policy,
    own: &'p [IpAddr],
    moving: bool,
    direction: Direction,
    /// Whether packets at the host's own addresses are all that was asked about.
    only_own: bool,
}

impl<'p> Words<'p> {
    /// For regions of packets at a host's own addresses, in one direction: these go without saying.
    pub(crate) fn of(policy: &'p Policy, plan: &'p HostPlan, direction: Direction) -> Self {
        let own = if plan.moving { &[] } else { &plan.addresses[..] };
        Self { policy, own, moving: plan.moving, direction, only_own: true }
    }

    /// For regions of any packets of a host, as it was `before`, or of another host. What two hosts do not
    /// share is neither's own.
    pub(crate) fn of_all(
        policy: &'p Policy,
        plan: &'p HostPlan,
        before: &HostPlan,
        direction: Direction,
    ) -> Self {
        let words = Self { only_own: false, ..Self::of(policy, plan, direction) };
        if plan.addresses == before.addresses { words } else { Self { own: &[], ..words } }
    }

    /// The region of a piece.
    pub(crate) fn piece(&self, piece: &Piece) -> RegionWords {
        let own: AddressSet = self.own.iter().map(|&it| AddressSet::single(it)).collect();
        // What goes without saying: the host's own end.
        let here = |end: Direction, set: &AddressSet| {
            !own.is_empty()
                && self.direction == end
                && set.union(&own) == *set
                && set.difference(&own).is_empty()
        };
        let itself = || match self.only_own {
            true => Vec::new(),
            false => vec![THIS_HOST.to_owned()],
        };
        let (v4, v6) = (piece.has(Family::V4), piece.has(Family::V6));
        let one = (v4 != v6).then_some(if v4 { Family::V4 } else { Family::V6 });
        let (from, from_except) = if here(Direction::Outbound, &piece.source) {
            (itself(), Vec::new())
        } else {
            let end = (&piece.source, piece.source_is);
            self.related(end, self.direction == Direction::Outbound, one)
        };
        let (to, to_except) = if here(Direction::Inbound, &whole_own(&piece.destination, &own, one))
        {
            (itself(), Vec::new())
        } else {
            let end = (&piece.destination, piece.destination_is);
            self.related(end, self.direction == Direction::Inbound, one)
        };
        // Addresses in numbers tell the version by themselves.
        let tells = |term: &String| match self.policy.place(term) {
            Some(place) => !Family::BOTH.iter().all(|&family| place.addresses.has(family)),
            None => term.contains(['.', ':']),
        };
        let unsaid = !from.iter().chain(&to).any(tells)
            && !carries_version(&by_meaning(&piece.traffic, one));
        let named = |set: &NameSet| match set {
            NameSet::Only(names) => Some(list(names.iter().map(|it| &**it), " or ")),
            NameSet::AllBut(names) => {
                let names: Vec<&str> =
                    names.iter().map(|it| &**it).filter(|it| *it != LOOPBACK).collect();
                (!names.is_empty()).then(|| format!("not {}", list(names.into_iter(), ", not ")))
            }
        };
        let ports = &piece.source_ports.ports;
        let has_ports = piece.traffic.has_ports();
        RegionWords {
            traffic: traffic(&piece.traffic, one),
            from,
            from_except,
            to,
            to_except,
            version: one.filter(|_| unsaid).map(Into::into),
            source_ports: (has_ports && !ports.is_full()).then(|| ports.to_string()),
            published: published(&piece.published).filter(|_| has_ports),
            ingress: named(&piece.in_interfaces),
            egress: named(&piece.out_interfaces),
            programs: named(&piece.programs),
            users: named(&piece.users),
            states: if piece.states.contains(ConnectionState::New) {
                Vec::new()
            } else {
                piece.states.iter().map(ConnectionState::as_str).collect()
            },
        }
    }

    /// Likewise as [`Words::addresses`], with what they have to be to the host, if its addresses are not
    /// listed. `own` tells whether they are the host's as a matter of course.
    fn related(
        &self,
        (set, is): (&AddressSet, RelationSet),
        own: bool,
        one: Option<Family>,
    ) -> (Vec<String>, Vec<String>) {
        if !self.moving {
            return self.addresses(set, one);
        }
        let meant = RelationSet::of(|it| it.own == own);
        // What is for many goes without saying at the host's own end.
        let whole = if own { set.union(&to_many()) } else { set.clone() };
        let (mut named, mut except) = self.addresses(&whole, one);
        let is = is.intersection(meant);
        let side = |on_link: bool| is.iter().any(|it| it.on_link == on_link);
        match (side(true), side(false)) {
            (true, false) if named.is_empty() => named.push(ON_LINK.into()),
            (true, false) => {
                named.iter_mut().for_each(|it| *it = format!("{it} {ON_LINK}"));
            }
            (false, true) => {
                if named.is_empty() {
                    named.push(ANYWHERE.into());
                }
                except.push(ON_LINK.into());
            }
            // The other end of the two: what comes from the host itself, or goes to it.
            (false, false) => named = vec![THIS_HOST.into()],
            (true, true) => {}
        }
        (named, except)
    }

    /// The regions of some pieces.
    pub(crate) fn pieces(&self, pieces: &[Piece]) -> Vec<RegionWords> {
        pieces.iter().map(|piece| self.piece(piece)).collect()
    }

    /// The shortest way to name some addresses: what is named, and what is excepted from it.
    /// Loopback addresses do not count, since they never come from elsewhere.
    pub(crate) fn addresses(
        &self,
        set: &AddressSet,
        one: Option<Family>,
    ) -> (Vec<String>, Vec<String>) {
        let only = |set: &AddressSet| one.map_or_else(|| set.clone(), |family| set.only(family));
        let alike = |a: &AddressSet, b: &AddressSet| {
            let loopback = only(&loopback());
            only(a).union(&loopback) == only(b).union(&loopback)
        };
        if alike(set, &AddressSet::full()) {
            return (Vec::new(), Vec::new());
        }
        if let Some(place) = self.policy.places.iter().find(|it| alike(set, &it.addresses)) {
            return (vec![place.name.clone()], Vec::new());
        }
        let set = only(set);
        let mut best = (written(&set), Vec::new());
        let named = self.names_of(&set);
        if named.len() < best.0.len() {
            best.0 = named;
        }
        let everybody = AddressSet::full();
        let places = self.policy.places.iter().map(|it| (Some(&it.name), &it.addresses));
        for (name, wider) in places.chain([(None, &everybody)]) {
            let wider = only(wider);
            if !set.difference(&wider).is_empty() {
                continue;
            }
            let left_out = wider.difference(&set).difference(&loopback());
            let except = self.names_of(&left_out);
            if except.len() + 1 < best.0.len() + best.1.len() {
                let name = name.map_or_else(|| "anywhere".to_owned(), Clone::clone);
                best = (vec![name], except);
            }
        }
        if let Some(wider) = enclosing(&set) {
            let except = written(&wider.addresses().difference(&set));
            if except.len() + 1 < best.0.len() + best.1.len() {
                best = (vec![wider.to_string()], except);
            }
        }
        let all = only(&everybody);
        if let Some(shorter) = nested(&set, &all, best.0.len() + best.1.len()) {
            best = shorter;
        }
        best
    }

    /// Names of places as far as they make up a set, and the rest in numbers.
    fn names_of(&self, set: &AddressSet) -> Vec<String> {
        let mut rest = set.clone();
        let mut names = Vec::new();
        for place in &self.policy.places {
            let known = &place.addresses;
            if !known.is_empty()
                && known.difference(set).is_empty()
                && !known.intersection(&rest).is_empty()
            {
                names.push(place.name.clone());
                rest = rest.difference(known);
            }
        }
        names.extend(written(&rest));
        names
    }
}

/// The destination, filled up with the host's addresses of the IP version that does not occur.
fn whole_own(set: &AddressSet, own: &AddressSet, one: Option<Family>) -> AddressSet {
    match one {
        Some(Family::V4) => set.union(&own.only(Family::V6)),
        Some(Family::V6) => set.union(&own.only(Family::V4)),
        None => set.clone(),
    }
}

fn list<'n>(names: impl Iterator<Item = &'n str>, between: &str) -> String {
    names.collect::<Vec<_>>().join(between)
}

impl RegionWords {
    /// Everything but the traffic, in one line; empty if nothing is narrowed.
    pub fn narrowed(&self) -> String {
        let mut words = Vec::new();
        let mut end = |word: &str, named: &[String], except: &[String]| {
            if !named.is_empty() {
                let named = shortened(named);
                words.push(match except {
                    [] => format!("{word} {named}"),
                    except => format!("{word} {named} except {}", shortened(except)),
                });
            }
        };
        end("from", &self.from, &self.from_except);
        end("to", &self.to, &self.to_except);
        if let Some(ports) = &self.published {
            // Behind a place, that would seem to be about it.
            if let Some(last) = words.last_mut() {
                last.push(',');
            }
            words.push(match ports.strip_prefix('!') {
                Some(ports) => format!("not led here from {ports}"),
                None => format!("led here from {ports}"),
            });
        }
        let mut more = |word: &str, value: &Option<String>| {
            words.extend(value.iter().map(|value| format!("{word} {value}")));
        };
        more("from port", &self.source_ports);
        more("in by", &self.ingress);
        more("out by", &self.egress);
        // In brackets: behind a place, "of" would seem to be about that.
        for (what, names) in [("program", &self.programs), ("user", &self.users)] {
            words.extend(names.as_ref().map(|it| owners_in_short(what, it)));
        }
        words.extend(self.version.map(|version| format!("over {version}")));
        if !self.states.is_empty() {
            words.push(format!("({})", self.states.join(", ")));
        }
        words.join(" ")
    }

    /// The traffic in short: of very many terms the first, and how many more there are. JSON has all.
    pub fn traffic_in_short(&self) -> String {
        let terms: Vec<&str> = self.traffic.split(", ").collect();
        match terms.len().checked_sub(TERMS) {
            None | Some(0..=2) => self.traffic.clone(),
            Some(more) => format!("{} and {more} more", terms[..TERMS].join(", ")),
        }
    }

    /// The region in one line: `5432/tcp from stacks except 10.44.8.10`.
    pub fn line(&self) -> String {
        let traffic = self.traffic_in_short();
        match self.narrowed() {
            rest if rest.is_empty() => format!("{traffic} from anywhere"),
            rest if self.from.is_empty() => format!("{traffic} from anywhere {rest}"),
            rest => format!("{traffic} {rest}"),
        }
    }
}

/// So many terms of traffic are told.
const TERMS: usize = 12;

/// The programs or users of a region in brackets; of very many the first.
fn owners_in_short(what: &str, names: &str) -> String {
    let list =
        |names: &str, between| -> Vec<String> { names.split(between).map(str::to_owned).collect() };
    if let Some(others) = names.strip_prefix("not ") {
        return format!("(any {what} but {})", shortened(&list(others, ", not ")));
    }
    let names = list(names, " or ");
    let few = names.len() <= MOST + 1;
    format!("({what} {})", if few { names.join(" or ") } else { shortened(&names) })
}

/// So many items of a list are told, or one more.
const MOST: usize = 6;

/// A list for one line; JSON has all of it.
fn shortened(items: &[String]) -> String {
    // What is left out of one is not to be taken for the next.
    let between = if items.iter().any(|it| it.contains(" except ")) { "; " } else { ", " };
    if items.len() <= MOST + 1 {
        return items.join(between);
    }
    format!("{} and {} more", items[..MOST].join(between), items.len() - MOST)
}

/// Ports that were asked for, among which 0 stands for those that were led nowhere.
fn published(ports: &RangeSet<u16>) -> Option<String> {
    match ports.contains(0) {
        _ if ports.is_full() => None,
        true => Some(format!("!{}", RangeSet::full().difference(ports))),
        false => Some(ports.to_string()),
    }
}
