//! The decision list of one host.

use super::condition::{Condition, told_apart};
use crate::policy::{Interface, Log, Logging, Origin, Rate, Record, Taken, Time, Verdict};
use crate::space::{AddressSet, Direction, PortProtocol};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// So begin the identities of decisions that hold once a posture is over.
pub(crate) const LATER: &str = "later";

/// Which part of a policy a decision stems from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Kind {
    /// A decision of the baseline, ahead of all rules.
    Baseline,
    /// A rule that somebody has written.
    Rule,
    /// The default policy of a direction.
    Default,
}

impl Kind {
    /// The word for it in output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Baseline => "baseline",
            Self::Rule => "rule",
            Self::Default => "default",
        }
    }
}

/// The identity of a decision everywhere: in output, in the kernel, in counters.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "String", from = "String")]
pub struct RuleId {
    /// Which part of the policy it stems from.
    pub kind: Kind,
    /// Its name within that part.
    pub name: String,
    /// Whether it is of what holds once a posture with an end is over.
    pub later: bool,
}

impl RuleId {
    fn of(kind: Kind, name: &str) -> Self {
        Self { kind, name: name.into(), later: false }
    }

    /// The default for a direction.
    #[must_use]
    pub(crate) fn default_for(direction: Direction) -> Self {
        Self::of(Kind::Default, direction.as_str())
    }

    /// The identity of a written rule.
    #[must_use]
    pub fn rule(name: &str) -> Self {
        Self::of(Kind::Rule, name)
    }

    /// A part of the baseline.
    #[must_use]
    pub fn baseline(name: &str) -> Self {
        Self::of(Kind::Baseline, name)
    }

    /// Reads what `Display` writes.
    #[must_use]
    pub fn parse(text: &str) -> Self {
        match text.split_once('/') {
            Some((LATER, text)) => Self { later: true, ..Self::parse(text) },
            Some(("baseline", name)) => Self::baseline(name),
            Some(("default", name)) => Self::of(Kind::Default, name),
            _ => Self::rule(text),
        }
    }

    /// The same of what holds once a posture with an end is over.
    #[must_use]
    pub(crate) fn later(self) -> Self {
        Self { later: true, ..self }
    }
}

impl From<String> for RuleId {
    fn from(text: String) -> Self {
        Self::parse(&text)
    }
}

impl From<RuleId> for String {
    fn from(id: RuleId) -> Self {
        id.to_string()
    }
}

impl fmt::Display for RuleId {
    /// `catalogue`, `baseline/replies` or `default/inbound`; rule names have no slash. Ahead of that, `later/`
    /// where it is so.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.later {
            write!(out, "{LATER}/")?;
        }
        match self.kind {
            Kind::Rule => out.write_str(&self.name),
            kind => write!(out, "{}/{}", kind.as_str(), self.name),
        }
    }
}

/// What a decision does with the packets it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Act {
    /// One verdict for all.
    Decide(Verdict),
    /// Allow up to a rate, deny the excess.
    AllowWithin(Rate),
}

impl Act {
    /// The verdict for a packet that comes while there is no excess.
    #[must_use]
    pub fn verdict(self) -> Verdict {
        match self {
            Self::Decide(verdict) => verdict,
            Self::AllowWithin(_) => Verdict::Allow,
        }
    }
}

/// Why a decision takes nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Idle {
    /// It is switched off.
    Paused,
    /// It ended at this moment.
    Ended(Time),
    /// It names programs or users, and the policy is to be enforced without such rules.
    WithoutPrograms,
}

/// How a decision reads in the file, for showing it.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Written {
    /// The traffic that it is about.
    pub traffic: String,
    /// The senders; empty for anywhere.
    pub from: String,
    /// The receivers; empty for anywhere.
    pub to: String,
}

/// One line of the decision list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decision {
    /// By what it is known everywhere.
    pub id: RuleId,
    /// Where it is written; `None` where the language supplies it.
    pub origin: Option<Origin>,
    /// It takes packets that meet any of these.
    pub conditions: Vec<Condition>,
    /// What it does with them.
    pub act: Act,
    /// Whether and how often the packets it takes are reported.
    pub log: Option<Log>,
    /// Why it takes nothing, if it does not.
    pub idle: Option<Idle>,
    /// Why it is there.
    pub why: Option<String>,
    /// How the policy says it.
    pub written: Written,
}

/// The decisions for one direction, in order; the last one takes everything.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chain {
    /// The direction of the packets that it is for.
    pub direction: Direction,
    /// The baseline's decisions, the rules, and the default.
    pub decisions: Vec<Decision>,
}

/// What a policy means for one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostPlan {
    /// The name of the host.
    pub host: String,
    /// The addresses that the host has; where the policy leaves them out, those of the moment, as far
    /// as they are known.
    pub addresses: Vec<IpAddr>,
    /// Where the policy leaves its addresses out: the networks that it is on at the moment, as far as
    /// they are known.
    pub on_link: AddressSet,
    /// The first and the last address of each IPv4 network that it is on, as far as they are known.
    pub broadcasts: Vec<[IpAddr; 2]>,
    /// Whether the policy leaves its addresses out.
    pub moving: bool,
    /// What its interfaces are for.
    pub interfaces: Vec<Interface>,
    /// The bits of sockets' marks by which rules know programs.
    pub program_marks: u32,
    /// What the kernel is to remember of who came; `None`: nothing.
    pub record: Option<Record>,
    /// Which decisions the kernel is to report.
    pub logging: Logging,
    /// The posture that it is in; `None`: in none.
    pub taken: Option<Taken>,
    /// One chain a direction, in the order of [`Direction::ALL`].
    pub chains: [Chain; 3],
}

impl HostPlan {
    /// The chain for a direction.
    #[must_use]
    pub fn chain(&self, direction: Direction) -> &Chain {
        &self.chains[direction as usize]
    }

    /// Leaves out the rules that name programs or users, as if they were paused.
    pub fn leave_out_programs(&mut self) {
        for decision in self.chains.iter_mut().flat_map(|chain| &mut chain.decisions) {
            if decision.id.kind == Kind::Baseline {
                // At their ports nobody is let in any more, so nobody is in a flow there.
                decision.conditions.retain(|it| !it.names_owners());
            } else if decision.idle.is_none() && decision.names_owners() {
                decision.idle = Some(Idle::WithoutPrograms);
            }
        }
    }

    /// Ends what is allowed for a time only: where nobody knows what time it is, it may be over.
    pub fn end_what_is_allowed_for_a_time(&mut self) {
        for decision in self.chains.iter_mut().flat_map(|chain| &mut chain.decisions) {
            let until = decision.conditions.first().and_then(|condition| condition.until);
            if let Some(until) = until
                && decision.idle.is_none()
                && decision.act.verdict() == Verdict::Allow
            {
                decision.idle = Some(Idle::Ended(until));
            }
        }
    }

    /// Whether it depends on the program or user who sends a UDP datagram, and so on whose a socket is that
    /// is only ever sent from.
    #[must_use]
    pub fn programs_send_datagrams(&self) -> bool {
        let outbound = self.chain(Direction::Outbound).decisions.iter();
        outbound
            .filter(|it| it.idle.is_none() && it.id.kind == Kind::Rule)
            .flat_map(|it| &it.conditions)
            .any(|it| it.names_owners() && !it.traffic.ports[PortProtocol::Udp].is_empty())
    }

    /// Every decision with its direction, in the order in which they are shown.
    pub fn decisions(&self) -> impl Iterator<Item = (Direction, &Decision)> {
        self.chains.iter().flat_map(|chain| {
            chain.decisions.iter().map(move |decision| (chain.direction, decision))
        })
    }

    /// The interfaces that decisions for a direction tell apart, besides the loopback interface.
    #[must_use]
    pub fn interfaces_told_apart(&self, direction: Direction) -> Vec<String> {
        let decisions = self.chain(direction).decisions.iter().filter(|it| it.idle.is_none());
        let conditions = decisions.flat_map(|decision| &decision.conditions);
        told_apart(conditions.flat_map(|it| [&it.in_interface, &it.out_interface]))
    }

    /// The decision of that identity.
    #[must_use]
    pub fn find(&self, id: &RuleId) -> Option<&Decision> {
        self.decisions().map(|(_, decision)| decision).find(|decision| decision.id == *id)
    }
}
