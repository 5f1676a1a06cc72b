//! The kinds of findings that a review can have, by the names under which a policy accepts them.

/// A kind of finding.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Code {
    /// Earlier rules decide everything that a rule matches.
    Shadowed,
    /// Removing a rule would change no packet's fate.
    Redundant,
    /// An earlier rule decides the opposite for a part of what a rule matches.
    Overlap,
    /// A rule cannot match anything on this host.
    NeverHere,
    /// A rule does what the default does anyway.
    SameAsDefault,
    /// A port that is commonly kept private is open to nearly everybody.
    WideOpen,
    /// A rule serves one IP version although the places it names have both.
    OneIpVersion,
    /// A rule has ended, or is about to.
    Expired,
    /// A rate does not do what it seems to.
    OddRate,
    /// Nothing uses a place, service or bundle.
    UnusedName,
    /// Nobody can reach the remote shell.
    ShellLockout,
    /// An expectation does not hold.
    ExpectationFailed,
    /// A rule allows a port at which nothing listens.
    NoListener,
    /// Something listens at a port that no rule mentions.
    UnmentionedListener,
    /// A rule opens a port to others at which something listens for this host only.
    LoopbackListener,
    /// A port is open to anybody, and only known places use it.
    WiderThanUsed,
    /// The session that asks would be cut.
    SessionCut,
    /// A rule for a program is about traffic that never belongs to one.
    ProgramNeverMatches,
    /// Rules for programs need the baseline's `replies`, and that is off.
    ProgramNeedsReplies,
    /// There is no program at a path that a rule names.
    ProgramMissing,
    /// A rule names a script, whose sockets are those of the program that runs it.
    ProgramIsScript,
    /// A program goes by more than one name.
    ProgramShared,
    /// Another program listens where a rule lets others reach a certain one.
    OtherProgram,
    /// Others use the bits of marks by which rules know programs.
    MarkClash,
    /// Others than root can write a program that rules name, or what it loads.
    ProgramWritable,
    /// A rule names a program that runs whatever it is given.
    ProgramIsInterpreter,
    /// There is no interface of a name by which rules tell packets apart.
    InterfaceMissing,
    /// An interface by which rules tell packets apart is a part of another one.
    InterfaceEnslaved,
    /// A rate per source has had no room for some senders.
    RateCrowded,
}

impl Code {
    /// All kinds.
    pub const ALL: [Self; 29] = [
        Self::Shadowed,
        Self::Redundant,
        Self::Overlap,
        Self::NeverHere,
        Self::SameAsDefault,
        Self::WideOpen,
        Self::OneIpVersion,
        Self::Expired,
        Self::OddRate,
        Self::UnusedName,
        Self::ShellLockout,
        Self::ExpectationFailed,
        Self::NoListener,
        Self::UnmentionedListener,
        Self::LoopbackListener,
        Self::WiderThanUsed,
        Self::SessionCut,
        Self::ProgramNeverMatches,
        Self::ProgramNeedsReplies,
        Self::ProgramMissing,
        Self::ProgramIsScript,
        Self::ProgramShared,
        Self::OtherProgram,
        Self::MarkClash,
        Self::ProgramWritable,
        Self::ProgramIsInterpreter,
        Self::InterfaceMissing,
        Self::InterfaceEnslaved,
        Self::RateCrowded,
    ];

    /// Its name.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Shadowed => "shadowed",
            Self::Redundant => "redundant",
            Self::Overlap => "overlap",
            Self::NeverHere => "never-here",
            Self::SameAsDefault => "same-as-default",
            Self::WideOpen => "wide-open",
            Self::OneIpVersion => "one-ip-version",
            Self::Expired => "expired",
            Self::OddRate => "odd-rate",
            Self::UnusedName => "unused-name",
            Self::ShellLockout => "shell-lockout",
            Self::ExpectationFailed => "expectation-failed",
            Self::NoListener => "no-listener",
            Self::UnmentionedListener => "unmentioned-listener",
            Self::LoopbackListener => "loopback-listener",
            Self::WiderThanUsed => "wider-than-used",
            Self::SessionCut => "session-cut",
            Self::ProgramNeverMatches => "program-never-matches",
            Self::ProgramNeedsReplies => "program-needs-replies",
            Self::ProgramMissing => "program-missing",
            Self::ProgramIsScript => "program-is-script",
            Self::ProgramShared => "program-shared",
            Self::OtherProgram => "other-program",
            Self::MarkClash => "mark-clash",
            Self::ProgramWritable => "program-writable",
            Self::ProgramIsInterpreter => "program-is-interpreter",
            Self::InterfaceMissing => "interface-missing",
            Self::InterfaceEnslaved => "interface-enslaved",
            Self::RateCrowded => "rate-crowded",
        }
    }

    /// The kind of that name.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|code| code.as_str() == text)
    }
}

/// A kind of finding that is known and wanted, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// The kind.
    pub code: Code,
    /// Why it is accepted.
    pub reason: String,
}
