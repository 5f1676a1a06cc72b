//! The words of reports, each a type of its own: in JSON and in text they are the same.

use serde::Serialize;
use std::fmt;
use tipstaff_core::plan;
use tipstaff_core::policy;
use tipstaff_core::space;
use tipstaff_linux::probe;

macro_rules! words {
    ($(#[$about:meta])* $name:ident {
        $($(#[$word_about:meta])* $word:ident = $text:literal,)*
    }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        pub enum $name {
            $($(#[$word_about])* #[serde(rename = $text)] $word,)*
        }

        impl $name {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$word),*];

            /// The word.
            #[must_use]
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$word => $text,)*
                }
            }
        }

        impl AsRef<str> for $name {
            fn as_ref(&self) -> &str {
                self.as_str()
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
                out.pad(self.as_str())
            }
        }
    };
}

words! {
    /// Which way packets go, seen from the host.
    Direction {
        /// To it.
        Inbound = "inbound",
        /// From it.
        Outbound = "outbound",
        /// Through it.
        Forwarded = "forwarded",
    }
}

impl From<space::Direction> for Direction {
    fn from(direction: space::Direction) -> Self {
        match direction {
            space::Direction::Inbound => Self::Inbound,
            space::Direction::Outbound => Self::Outbound,
            space::Direction::Forwarded => Self::Forwarded,
        }
    }
}

words! {
    /// What becomes of a packet.
    Verdict {
        /// It passes.
        Allow = "allow",
        /// It is dropped in silence.
        Deny = "deny",
        /// It is refused with an answer.
        Reject = "reject",
    }
}

impl From<policy::Verdict> for Verdict {
    fn from(verdict: policy::Verdict) -> Self {
        match verdict {
            policy::Verdict::Allow => Self::Allow,
            policy::Verdict::Deny => Self::Deny,
            policy::Verdict::Reject => Self::Reject,
        }
    }
}

words! {
    /// A witness's word on several packets, or on one.
    Word {
        /// All pass.
        Allow = "allow",
        /// All are dropped in silence.
        Deny = "deny",
        /// All are refused with an answer.
        Reject = "reject",
        /// Not all fare alike.
        Partly = "partly",
        /// The witness cannot tell.
        Unknown = "unknown",
    }
}

impl From<policy::Verdict> for Word {
    fn from(verdict: policy::Verdict) -> Self {
        match verdict {
            policy::Verdict::Allow => Self::Allow,
            policy::Verdict::Deny => Self::Deny,
            policy::Verdict::Reject => Self::Reject,
        }
    }
}

words! {
    /// How bad a finding is.
    Severity {
        /// To be known.
        Note = "note",
        /// Probably not meant.
        Warning = "warning",
        /// Surely not meant.
        Error = "error",
    }
}

impl From<policy::Severity> for Severity {
    fn from(severity: policy::Severity) -> Self {
        match severity {
            policy::Severity::Note => Self::Note,
            policy::Severity::Warning => Self::Warning,
            policy::Severity::Error => Self::Error,
        }
    }
}

words! {
    /// Where a decision stems from.
    Origin {
        /// What every host has.
        Baseline = "baseline",
        /// A written rule.
        Rule = "rule",
        /// What happens where nothing else decides.
        Default = "default",
    }
}

impl From<plan::Kind> for Origin {
    fn from(kind: plan::Kind) -> Self {
        match kind {
            plan::Kind::Baseline => Self::Baseline,
            plan::Kind::Rule => Self::Rule,
            plan::Kind::Default => Self::Default,
        }
    }
}

words! {
    /// An IP version.
    Version {
        /// RFC 791.
        V4 = "IPv4",
        /// RFC 8200.
        V6 = "IPv6",
    }
}

impl From<space::Family> for Version {
    fn from(family: space::Family) -> Self {
        match family {
            space::Family::V4 => Self::V4,
            space::Family::V6 => Self::V6,
        }
    }
}

words! {
    /// A protocol with ports.
    PortProtocol {
        /// RFC 9293.
        Tcp = "tcp",
        /// RFC 768.
        Udp = "udp",
    }
}

impl From<space::PortProtocol> for PortProtocol {
    fn from(protocol: space::PortProtocol) -> Self {
        match protocol {
            space::PortProtocol::Tcp => Self::Tcp,
            space::PortProtocol::Udp => Self::Udp,
        }
    }
}

words! {
    /// What probes met.
    Sight {
        /// An answer of who listens.
        Open = "open",
        /// A refusal of the host: nobody listens, or a rule resets.
        Refused = "refused",
        /// A refusal by rules.
        Prohibited = "prohibited",
        /// No answer.
        Silent = "silent",
        /// Something on the way says that there is no way.
        Unreachable = "unreachable",
        /// Not all met the same.
        Partly = "partly",
    }
}

impl From<probe::State> for Sight {
    fn from(state: probe::State) -> Self {
        match state {
            probe::State::Open => Self::Open,
            probe::State::Refused => Self::Refused,
            probe::State::Prohibited => Self::Prohibited,
            probe::State::Silent => Self::Silent,
            probe::State::Unreachable => Self::Unreachable,
        }
    }
}

words! {
    /// What became of a packet in a lab.
    Fate {
        /// It got through, and somebody listens.
        Open = "open",
        /// It got through, and nobody listens.
        Closed = "closed",
        /// It got through to another machine.
        PassedOn = "passed-on",
        /// It was refused with an answer.
        Rejected = "rejected",
        /// It was stopped, and answered with another error than a refusal by rules.
        StoppedOddly = "stopped-oddly",
        /// It was stopped in silence.
        Denied = "denied",
        /// It never reached a rule for what comes in.
        StoppedEarly = "stopped-early",
    }
}

impl From<probe::Met> for Fate {
    fn from(met: probe::Met) -> Self {
        match met {
            probe::Met::Open => Self::Open,
            probe::Met::Closed => Self::Closed,
            probe::Met::PassedOn => Self::PassedOn,
            probe::Met::Rejected => Self::Rejected,
            probe::Met::StoppedOddly => Self::StoppedOddly,
            probe::Met::Denied => Self::Denied,
            probe::Met::Lost => Self::StoppedEarly,
        }
    }
}

words! {
    /// What a change does to some packets.
    Effect {
        /// They pass now.
        Opens = "opens",
        /// They pass no more.
        Closes = "closes",
        /// They pass up to a rate now.
        Limits = "limits",
        /// They pass without a rate now.
        Unlimits = "unlimits",
        /// They are refused with an answer now, and met silence.
        Answers = "answers",
        /// They meet silence now, and were refused with an answer.
        Silences = "silences",
    }
}

words! {
    /// Why a change makes no difference to some packets.
    Idle {
        /// An earlier rule decides.
        DecidedAbove = "decided-above",
        /// They fared so before.
        AlreadySo = "already-so",
    }
}

words! {
    /// What was asked.
    Asked {
        /// Who can reach some traffic.
        Who = "who",
        /// What a sender can reach.
        What = "what",
        /// What a rule decides.
        Why = "why",
    }
}

words! {
    /// What there is at a path.
    AtPath {
        /// A program.
        Program = "program",
        /// A text that another program runs.
        Script = "script",
        /// A file that may not be executed.
        NotExecutable = "not-executable",
        /// Nothing, or no regular file.
        Missing = "missing",
    }
}

words! {
    /// What loads the rules at boot.
    BootService {
        /// A unit.
        Systemd = "systemd",
        /// A script in a run level.
        Openrc = "openrc",
    }
}

words! {
    /// Whether rules of others can keep out what the policy allows.
    Denies {
        /// They cannot.
        Never = "never",
        /// Something in them is not understood.
        Perhaps = "perhaps",
        /// They can.
        Can = "can",
    }
}

words! {
    /// What was tried in a lab.
    Tried {
        /// The policy on this kernel.
        Policy = "policy",
        /// A copy of this machine as it stands.
        Copy = "copy",
    }
}

words! {
    /// What callers of a place meet at a port.
    Reach {
        /// They come through.
        Open = "open",
        /// They come through up to a rate.
        Rate = "rate",
        /// They are refused with an answer.
        Refused = "refused",
        /// They hear nothing.
        Silence = "silence",
        /// Not all fare alike.
        Partly = "partly",
        /// The place has no address that could come here.
        Nobody = "-",
    }
}

words! {
    /// What a change did, or would do.
    Changed {
        /// The rules are in force.
        Enforced = "enforced",
        /// They were before.
        Unchanged = "unchanged",
        /// Nothing: it was only asked.
        WouldEnforce = "would-enforce",
        /// Our rules are out of the kernel.
        Released = "released",
        /// None were in it.
        NothingToRelease = "nothing-to-release",
    }
}

words! {
    /// What was decided about a change that waited.
    Decided {
        /// It stays.
        Confirmed = "confirmed",
        /// It went back.
        Reverted = "reverted",
    }
}

words! {
    /// What a boot did.
    BootDid {
        /// What was confirmed last is in force.
        Loaded = "loaded",
        /// There is nothing that was confirmed.
        NothingConfirmed = "nothing-confirmed",
        /// The rules were released.
        Released = "released",
        /// Loading failed, and went well without rules for programs.
        LoadedWithoutPrograms = "loaded-without-programs",
        /// Loading failed, and what was confirmed earlier is in force.
        LoadedEarlier = "loaded-earlier",
        /// Loading failed: only the baseline and the remote shell stay open.
        Closed = "closed",
        /// Loading failed, and the policy lets everything pass then.
        Open = "open",
        /// Our rules are in the kernel.
        There = "there",
        /// A change waits to be confirmed.
        Waits = "waits",
    }
}
