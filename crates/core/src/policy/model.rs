//! A policy as written: names are checked, nothing is worked out yet.

use super::{
    Accepted, Data, Ends, Fleet, Logging, Origin, Rate, Record, Source, Time, Verdict, When,
};
use crate::space::{AddressSet, ByProtocol, Direction, HardwareAddress, RangeSet, TrafficSet};
use std::net::IpAddr;

/// Everything that one policy says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Policy {
    /// The texts it was read from.
    pub sources: Vec<Source>,
    /// Named sets of addresses, in the order written.
    pub places: Vec<Place>,
    /// Named sets of ports, in the order written.
    pub services: Vec<Service>,
    /// Named lists of rules, in the order written; their rules stand with the hosts that use them.
    pub bundles: Vec<Bundle>,
    /// Labels with a section, in the order written; what they say stands with the hosts that have them.
    pub labels: Vec<LabelSection>,
    /// The hosts, in the order written; at least one.
    pub hosts: Vec<Host>,
    /// What is said of all of them together.
    pub fleet: Fleet,
    /// Where places, services and bundles are used, in no particular order.
    pub uses: Vec<Use>,
}

/// What can be used by its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Used {
    /// A named set of addresses.
    Place,
    /// A service of the policy.
    Service,
    /// A named list of rules.
    Bundle,
    /// A label with a section.
    Label,
    /// A machine; what holds between machines uses its name.
    Host,
}

impl Used {
    /// The word for it, which is also the key of its section.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Place => "place",
            Self::Service => "service",
            Self::Bundle => "bundle",
            Self::Label => "label",
            Self::Host => "host",
        }
    }
}

/// One use of a name.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Use {
    /// What sort of thing is used.
    pub what: Used,
    /// The name by which it is used.
    pub name: String,
    /// Where it is used.
    pub origin: Origin,
}

impl Policy {
    /// The host of that name.
    #[must_use]
    pub fn host(&self, name: &str) -> Option<&Host> {
        self.hosts.iter().find(|host| host.name == name)
    }

    /// The place of that name.
    #[must_use]
    pub fn place(&self, name: &str) -> Option<&Place> {
        self.places.iter().find(|place| place.name == name)
    }
}

/// A named set of addresses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Place {
    /// The name that rules use.
    pub name: String,
    /// The addresses that it stands for.
    pub addresses: AddressSet,
    /// The files from which more than what is written comes, if any does.
    pub data: Option<Data>,
    /// Why it is there.
    pub why: Option<String>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// A named set of ports.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Service {
    /// The name that rules use.
    pub name: String,
    /// What it stands for.
    pub traffic: TrafficSet,
    /// The terms that it is made of, as written.
    pub ports: Vec<ServicePort>,
    /// Why it is there.
    pub why: Option<String>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// One term of a service.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ServicePort {
    /// The traffic term, or the name of another service.
    pub term: String,
    /// What it is for, if that is written.
    pub meaning: Option<String>,
    /// What it stands for.
    pub traffic: TrafficSet,
}

/// A named list of rules.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Bundle {
    /// The name that hosts use.
    pub name: String,
    /// The names of its rules, and of the bundles that it takes in, in order.
    pub rules: Vec<String>,
    /// Why it is there.
    pub why: Option<String>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// What all hosts with a label have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LabelSection {
    /// The word that hosts have among their labels.
    pub name: String,
    /// The names of its rules, and of the bundles that it takes in, in order.
    pub rules: Vec<String>,
    /// Why it is there.
    pub why: Option<String>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// What is written for one machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Host {
    /// The name of the machine.
    pub name: String,
    /// Its own addresses, in the order written; none where they are left out: then they are what the
    /// kernel says at the moment.
    pub addresses: Vec<IpAddr>,
    /// The first and the last address of each IPv4 network that they are in, as far as prefix lengths are
    /// written.
    pub broadcasts: Vec<[IpAddr; 2]>,
    /// Patterns of other host names that it is for; see [`Policy::host_for`].
    pub names: Vec<String>,
    /// Words that describe it, for readers.
    pub labels: Vec<String>,
    /// What its interfaces are for.
    pub interfaces: Vec<Interface>,
    /// What happens to packets that no rule decides.
    pub defaults: Defaults,
    /// The things that keep its network working.
    pub baseline: Baseline,
    /// Its rules, in order, bundles unfolded where they are used.
    pub rules: Vec<Rule>,
    /// What must hold whatever its rules are, in the order written.
    pub expectations: Vec<Expectation>,
    /// Who is turned away ahead of everything else, if anybody is.
    pub turned_away: Option<TurnedAway>,
    /// Where the remote shell listens, if that is written.
    pub shell: Option<Shell>,
    /// What the kernel is to remember of who came; `None`: nothing.
    pub record: Option<Record>,
    /// Which decisions the kernel is to report.
    pub logging: Logging,
    /// Whether everything passes if the rules cannot be loaded at boot.
    pub open_on_failure: bool,
    /// The bits of sockets' marks by which its rules know programs.
    pub program_marks: u32,
    /// What is to hold in certain situations, in the order written.
    pub postures: Vec<Posture>,
    /// The posture that a boot begins in.
    pub at_boot: Option<String>,
    /// The posture in which this is what it says; `None`: in none.
    pub posture: Option<String>,
    /// Findings about it, not about one of its rules, that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// What holds in a certain situation.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Posture {
    /// The name by which it is taken.
    pub name: String,
    /// What it is for.
    pub why: Option<String>,
    /// Where the machine is while it holds by itself; `None`: only while somebody has taken it.
    pub when: Option<When>,
    /// Whether its rules stand instead of the host's own; else they are ahead of them.
    pub instead: bool,
    /// Its rules, in order, bundles unfolded.
    pub rules: Vec<Rule>,
    /// Its defaults, in the order of [`Direction::ALL`]; `None`: those of the host.
    pub defaults: [Option<(Verdict, Origin)>; 3],
    /// How pings are answered; `None`: as the host has it.
    pub ping: Option<(Ping, Origin)>,
    /// The parts of the baseline that it switches.
    pub switches: Vec<(&'static str, bool, Origin)>,
    /// Who is turned away besides.
    pub turned_away: Option<TurnedAway>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// The bits of marks that are used if nothing else is written.
pub const PROGRAM_MARKS: u32 = 0xff00_0000;

/// Where the remote shell listens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shell {
    /// The ports at which it listens.
    pub traffic: TrafficSet,
    /// The same, as it is written.
    pub terms: Written,
    /// Where that is written.
    pub origin: Origin,
}

/// Who is turned away ahead of pings, replies and all rules.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TurnedAway {
    /// The addresses of those who are until that is taken back; empty for nobody.
    pub addresses: AddressSet,
    /// Those of others, each until a moment.
    pub for_a_time: Vec<(Time, AddressSet)>,
    /// All of them, as it is written: first what stands in the host's own list.
    pub terms: Written,
    /// How many of these stand there; the others are of labels.
    pub own: usize,
    /// Where that is written.
    pub origin: Origin,
}

/// What one interface is for.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Interface {
    /// A word for it.
    pub role: String,
    /// A name of it, or the role, if it is known by its hardware address.
    pub name: String,
    /// The hardware address by which it is known.
    pub hardware: Option<HardwareAddress>,
}

/// A default verdict, and where it is written; `None` where the language supplies it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Default {
    /// What happens to packets that no rule decides.
    pub verdict: Verdict,
    /// Where that is written.
    pub origin: Option<Origin>,
}

/// The three defaults of a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Defaults {
    /// For packets to the host; `deny` unless written.
    pub inbound: Default,
    /// For packets from the host; `allow` unless written.
    pub outbound: Default,
    /// For packets through the host; `deny` unless written.
    pub forwarded: Default,
}

impl Defaults {
    /// The default for one direction.
    #[must_use]
    pub fn of(&self, direction: Direction) -> &Default {
        match direction {
            Direction::Inbound => &self.inbound,
            Direction::Outbound => &self.outbound,
            Direction::Forwarded => &self.forwarded,
        }
    }

    /// The same, to be changed.
    pub(super) fn of_mut(&mut self, direction: Direction) -> &mut Default {
        match direction {
            Direction::Inbound => &mut self.inbound,
            Direction::Outbound => &mut self.outbound,
            Direction::Forwarded => &mut self.forwarded,
        }
    }
}

/// How the host answers echo requests.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ping {
    /// Every ping is answered.
    Allow,
    /// No ping is answered.
    Deny,
    /// Up to a rate, all senders together.
    Rate(Rate),
    /// The rules decide about every single one, also in a series that was allowed before.
    ByRules,
}

/// The switches of the baseline.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Baseline {
    /// Inbound echo requests; 5 a second unless written.
    pub ping: Ping,
    /// Where that is written.
    pub ping_origin: Option<Origin>,
    /// The other parts that are switched, by name, and where that is written; those that are not
    /// here are on.
    pub switches: Vec<(&'static str, bool, Origin)>,
}

/// How often the packets that a rule takes are reported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Log {
    /// At most so often; `None`: always.
    pub cap: Option<Rate>,
}

/// A list of terms, exactly as they stand in the file.
pub type Written = Vec<String>;

/// One named statement about traffic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// Its name, unique on its host.
    pub name: String,
    /// What happens to packets that it matches.
    pub verdict: Verdict,
    /// The traffic that it is about.
    pub traffic: TrafficSet,
    /// The traffic as written.
    pub traffic_terms: Written,
    /// The direction that it is about.
    pub direction: Direction,
    /// The senders that it is about.
    pub from: Ends,
    /// The senders as written; empty when left out.
    pub from_terms: Written,
    /// The receivers that it is about.
    pub to: Ends,
    /// The receivers as written; empty when left out.
    pub to_terms: Written,
    /// The host's own addresses it is narrowed to, as written; `from` and `to` are narrowed
    /// already.
    pub at_terms: Written,
    /// By which interfaces its packets come in; any if empty, as always for outbound ones. `!` ahead of the only one
    /// stands for all others.
    pub ingress: Vec<String>,
    /// By which interfaces its packets go out; any if empty, as always for inbound ones.
    pub egress: Vec<String>,
    /// From which ports, where packets have ports; all ports when left out.
    pub source_ports: RangeSet<u16>,
    /// Where callers asked for what was led here, by address translation; all, led or not, when left out.
    pub published: Option<ByProtocol<RangeSet<u16>>>,
    /// The same, as it is written.
    pub published_terms: Written,
    /// For an `allow` rule, how often it allows a new flow.
    pub rate: Option<Rate>,
    /// The executables whose sockets receive or send it; any if empty.
    pub programs: Vec<String>,
    /// The users, by name or number, whose sockets alone it is about; all if empty.
    pub users: Vec<String>,
    /// Whether and how often the packets it takes are reported.
    pub log: Option<Log>,
    /// When it ends by itself.
    pub until: Option<Time>,
    /// Whether it is switched off for now.
    pub paused: bool,
    /// The bundle that it comes from.
    pub bundle: Option<String>,
    /// The label by which the host has it.
    pub label: Option<String>,
    /// Why it is there.
    pub why: Option<String>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}

/// A statement about a host that must hold whatever its rules are: all packets of a region meet a
/// verdict.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Expectation {
    /// The direction of the packets.
    pub direction: Direction,
    /// The traffic that it is about.
    pub traffic: TrafficSet,
    /// The same, as it is written.
    pub traffic_terms: Written,
    /// Where they come from.
    pub from: Ends,
    /// The senders as written; empty when left out.
    pub from_terms: Written,
    /// The addresses that they go to.
    pub to: Ends,
    /// The receivers as written; empty when left out.
    pub to_terms: Written,
    /// By which interfaces they come in; any if empty, as always for outbound ones.
    pub ingress: Vec<String>,
    /// By which interfaces they go out; any if empty, as always for inbound ones.
    pub egress: Vec<String>,
    /// Where callers asked for what was led here, by address translation; all, led or not, when left out.
    pub published: Option<ByProtocol<RangeSet<u16>>>,
    /// The same, as it is written.
    pub published_terms: Written,
    /// What all of them must meet.
    pub verdict: Verdict,
    /// Whether it is about every packet, also of connections that there are; else about the first ones.
    pub every_packet: bool,
    /// The parts of the baseline whose packets it is not about.
    pub besides: Vec<String>,
    /// The postures in which it must hold; none: while no posture is in force.
    pub postures: Vec<String>,
    /// The label that brings it, if one does.
    pub label: Option<String>,
    /// Why it must hold.
    pub why: Option<String>,
    /// Findings about it that are accepted.
    pub accepted: Vec<Accepted>,
    /// Where it is written.
    pub origin: Origin,
}
