//! The words of reports, each a type of its own: in JSON and in text they are the same.

pub use crate::codes::Code;
use serde::{Deserialize, Serialize};
use std::fmt;
use tipstaff_core::plan;
use tipstaff_core::policy;
use tipstaff_core::space;
use tipstaff_linux::{self as linux, probe};

macro_rules! words {
    // What another type says with the same words.
    ($(#[$about:meta])* $name:ident of $other:ty {
        $($(#[$word_about:meta])* $word:ident = $text:literal,)*
    }) => {
        words! { $(#[$about])* $name { $($(#[$word_about])* $word = $text,)* } }

        impl From<$other> for $name {
            fn from(other: $other) -> Self {
                match other {
                    $(<$other>::$word => Self::$word,)*
                }
            }
        }
    };
    ($(#[$about:meta])* $name:ident {
        $($(#[$word_about:meta])* $word:ident = $text:literal,)*
    }) => {
        $(#[$about])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
        pub enum $name {
            $($(#[$word_about])* #[serde(rename = $text)] $word,)*
        }

        impl $name {
            /// All words of this sort, in the order above.
            pub const ALL: &[Self] = &[$(Self::$word),*];

            /// The word as it stands in JSON.
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
    /// Who can reach something, by the policy.
    ReachedBy {
        /// Whoever can send to this machine.
        Everybody = "everybody",
        /// Some, and others not.
        Some = "some",
        /// Nobody but this machine itself.
        Nobody = "nobody",
    }
}

words! {
    /// What became of a place whose files were read anew.
    Refreshed {
        /// They were read for the first time.
        New = "new",
        /// They say something else than before.
        Changed = "changed",
        /// They say what they said.
        Same = "same",
        /// What they say is not taken.
        Refused = "refused",
    }
}

words! {
    /// Which way packets go, seen from the host.
    Direction of space::Direction {
        /// Packets that end at this host.
        Inbound = "inbound",
        /// Packets that begin at this host.
        Outbound = "outbound",
        /// Packets that pass through this host.
        Forwarded = "forwarded",
    }
}

words! {
    /// What becomes of a packet.
    Verdict of policy::Verdict {
        /// The packet passes on.
        Allow = "allow",
        /// It is dropped in silence.
        Deny = "deny",
        /// It is refused with an answer.
        Reject = "reject",
    }
}

words! {
    /// How those fared who came.
    Fared {
        /// Their packets passed.
        Admitted = "admitted",
        /// They were dropped, or refused with an answer.
        Denied = "denied",
    }
}

impl Fared {
    /// How somebody fared who was admitted, or was not.
    #[must_use]
    pub fn of(admitted: bool) -> Self {
        if admitted { Self::Admitted } else { Self::Denied }
    }
}

words! {
    /// A witness's word on several packets, or on one.
    Word {
        /// All packets in question pass on.
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
    Severity of policy::Severity {
        /// Something worth to be known.
        Note = "note",
        /// Something that is probably not meant.
        Warning = "warning",
        /// Something that is surely not meant.
        Error = "error",
    }
}

words! {
    /// Where a decision stems from.
    Origin of plan::Kind {
        /// What every host has.
        Baseline = "baseline",
        /// A rule that somebody has written.
        Rule = "rule",
        /// What happens where nothing else decides.
        Default = "default",
    }
}

words! {
    /// An IP version, as people write it.
    Version of space::Family {
        /// Internet Protocol version 4 (RFC 791).
        V4 = "IPv4",
        /// Internet Protocol version 6 (RFC 8200).
        V6 = "IPv6",
    }
}

words! {
    /// A protocol with ports.
    PortProtocol of space::PortProtocol {
        /// Transmission Control Protocol (RFC 9293).
        Tcp = "tcp",
        /// User Datagram Protocol (RFC 768).
        Udp = "udp",
        /// Stream Control Transmission Protocol (RFC 9260).
        Sctp = "sctp",
    }
}

words! {
    /// What probes met, seen from the far end.
    Sight {
        /// An answer of who listens.
        Open = "open",
        /// A refusal of the host: nobody listens, or a rule resets.
        Refused = "refused",
        /// A refusal by rules.
        Prohibited = "prohibited",
        /// No answer came in time.
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
    Fate of probe::Met {
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
        Lost = "stopped-early",
    }
}

words! {
    /// What a change does to some packets.
    Effect {
        /// Packets that were stopped pass now.
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
    /// Which question a reader asked.
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
        /// A file that can be run as a program.
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
        /// A unit of the service manager.
        Systemd = "systemd",
        /// A script in a run level.
        Openrc = "openrc",
    }
}

words! {
    /// Whether rules of others can keep out what the policy allows.
    Denies {
        /// They can keep nothing out that it allows.
        Never = "never",
        /// Something in them is not understood.
        Perhaps = "perhaps",
        /// They can keep something out that it allows.
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
        /// Connections of theirs come through.
        Open = "open",
        /// They come through up to a rate.
        Rate = "rate",
        /// They are refused with an answer.
        Refused = "refused",
        /// They hear nothing at all.
        Silence = "silence",
        /// Not all fare alike.
        Partly = "partly",
        /// It cannot be told, since others lead them elsewhere in a way that is not understood.
        Unknown = "unknown",
        /// The place has no address that could come here.
        Nobody = "-",
    }
}

words! {
    /// What holds instead of the policy's rules.
    Posture {
        /// Nothing in or out but by loopback.
        Shut = "shut",
    }
}

words! {
    /// What was done about a posture.
    Moved {
        /// The door is shut.
        Shut = "shut",
        /// It is open again.
        Opened = "opened",
        /// A posture of the policy was taken.
        Taken = "taken",
        /// It would be taken.
        WouldTake = "would-take",
        /// It was left.
        Left = "left",
        /// It would be left.
        WouldLeave = "would-leave",
        /// None was in force.
        NothingToLeave = "nothing-to-leave",
        /// Nothing: it was only looked at.
        Looked = "looked",
    }
}

words! {
    /// What a change did, or would do.
    Changed {
        /// The rules are in force.
        Enforced = "enforced",
        /// The rules were in force before.
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
    /// What became of what a host was told to take.
    Took {
        /// It is in force, and stays.
        Taken = "taken",
        /// It has it already, or is told to take none.
        NothingNew = "nothing-new",
        /// It does not have it, and says why.
        Refused = "refused",
    }
}

words! {
    /// Whether traffic from one host arrives at another.
    Reaches {
        /// All of it does.
        Yes = "yes",
        /// Some of it does.
        InPart = "in-part",
        /// None of it does.
        No = "no",
    }
}

words! {
    /// Whether what must hold does.
    Holds {
        /// It is proven.
        Yes = "yes",
        /// It does not.
        No = "no",
        /// It does where it could be looked at.
        Unknown = "unknown",
    }
}

words! {
    /// How things stand with a host of a fleet, in one word.
    Stands {
        /// It has what it should, in force.
        Well = "well",
        /// It was told to take something, and has not said yet that it did.
        Behind = "behind",
        /// It waits for its turn.
        Waits = "waits",
        /// It did not take what it was told to.
        Refused = "refused",
        /// It took it and went back, since it reached nobody any more.
        WentBack = "went-back",
        /// Its policy was changed on the machine.
        ChangedHere = "changed-here",
        /// Others do not answer it that its policy asks it to try.
        Unanswered = "unanswered",
        /// Its kernel does something else than its policy.
        Drifted = "drifted",
        /// It has not said anything for longer than it would.
        Silent = "silent",
        /// It has never said anything.
        NeverHeard = "never-heard",
    }
}

words! {
    /// What was decided about a change that waited.
    Decided {
        /// The change stays in force.
        Confirmed = "confirmed",
        /// The rules of before are in force again.
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

words! {
    /// What connection tracking says of a packet.
    Tracked of space::ConnectionState {
        /// It is the first of a flow.
        New = "new",
        /// It is part of a flow that has been answered.
        Established = "established",
        /// It belongs to another flow, such as an ICMP error about it.
        Related = "related",
        /// It fits no flow and cannot begin one.
        Invalid = "invalid",
        /// It is not tracked, such as neighbour discovery.
        Untracked = "untracked",
    }
}

words! {
    /// What sort of named things a list holds.
    Named {
        /// Named sets of addresses.
        Place = "place",
        /// Named sets of traffic.
        Service = "service",
        /// Named lists of rules.
        Bundle = "bundle",
        /// What hosts with a label have.
        Label = "label",
    }
}

words! {
    /// Something that a policy or a command needs of the kernel.
    Need of linux::Need {
        /// The policy's rules, loaded and read back alike.
        Rules = "rules",
        /// Telling by program whose a socket is.
        Programs = "programs",
        /// Reports of packets, for `log` and for rehearsals.
        Reports = "reports",
        /// Traces of packets that go with whoever asked for them, for `watch`.
        Traces = "traces",
        /// The list of flows that are tracked.
        Flows = "flows",
        /// The list of sockets.
        Sockets = "sockets",
        /// That multicast router discovery is left to the rules.
        RouterDiscovery = "router-discovery",
    }
}

words! {
    /// The packets that a table of somebody else sees.
    Sees of linux::ruleset::Sees {
        /// Packets of both IP versions.
        Both = "IPv4 and IPv6",
        /// Packets of IPv4 only.
        V4 = "IPv4",
        /// Packets of IPv6 only.
        V6 = "IPv6",
        /// Frames of one interface.
        Interface = "one interface",
        /// Frames that a bridge passes on.
        Bridged = "bridged",
        /// Packets of another sort.
        Others = "other",
    }
}
