//! The kinds of findings that a review can have, by the names under which a policy accepts them.

/// Kinds with their names; none can be without a name, or be left out of the list.
macro_rules! kinds {
    ($($(#[$about:meta])* $kind:ident = $name:literal,)*) => {
        /// A kind of finding.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum Code {
            $($(#[$about])* $kind,)*
        }

        impl Code {
            /// Every kind that there is.
            pub const ALL: &[Self] = &[$(Self::$kind),*];

            /// The name that people type and read.
            #[must_use]
            pub fn as_str(self) -> &'static str {
                match self {
                    $(Self::$kind => $name,)*
                }
            }
        }
    };
}

kinds! {
    /// Earlier rules decide everything that a rule matches.
    Shadowed = "shadowed",
    /// A rule allows all that several narrower rules below it allow.
    WideRuleAbove = "wide-rule-above",
    /// Removing a rule would change no packet's fate.
    Redundant = "redundant",
    /// An earlier rule decides the opposite for a part of what a rule matches.
    Overlap = "overlap",
    /// A rule cannot match anything on this host.
    NeverHere = "never-here",
    /// A rule does what the default does anyway.
    SameAsDefault = "same-as-default",
    /// A port that is commonly kept private is open to nearly everybody.
    WideOpen = "wide-open",
    /// A rule serves one IP version although the places it names have both.
    OneIpVersion = "one-ip-version",
    /// A rule has ended, or is about to.
    Expired = "expired",
    /// A rate does not do what it seems to.
    OddRate = "odd-rate",
    /// Nothing uses a place, service or bundle.
    UnusedName = "unused-name",
    /// Nobody can reach the remote shell.
    ShellLockout = "shell-lockout",
    /// An expectation does not hold.
    ExpectationFailed = "expectation-failed",
    /// A rule allows a port at which nothing listens.
    NoListener = "no-listener",
    /// Something listens at a port that no rule mentions.
    UnmentionedListener = "unmentioned-listener",
    /// A port that others lead elsewhere is open, and no rule speaks of it.
    PublishedPastPolicy = "published-past-policy",
    /// A rule is about a port whose packets others lead elsewhere.
    LedElsewhere = "led-elsewhere",
    /// A rule opens a port to others at which something listens for this host only.
    LoopbackListener = "loopback-listener",
    /// A rule has admitted nobody for as long as is remembered.
    UnusedRule = "unused-rule",
    /// A port is open to anybody, and only known places use it.
    WiderThanUsed = "wider-than-used",
    /// The session that asks would be cut.
    SessionCut = "session-cut",
    /// A rule for a program is about traffic that never belongs to one.
    ProgramNeverMatches = "program-never-matches",
    /// Rules for programs need the baseline's `replies`, and that is off.
    ProgramNeedsReplies = "program-needs-replies",
    /// There is no program at a path that a rule names.
    ProgramMissing = "program-missing",
    /// A rule names a script, whose sockets are those of the program that runs it.
    ProgramIsScript = "program-is-script",
    /// A program goes by more than one name.
    ProgramShared = "program-shared",
    /// Another program listens where a rule lets others reach a certain one.
    OtherProgram = "other-program",
    /// A rule names a user whom the machine does not know.
    UserMissing = "user-missing",
    /// Rules name one user in two ways.
    UserShared = "user-shared",
    /// A socket of another user waits where a rule lets others reach that of a certain one.
    OtherUser = "other-user",
    /// Others use the bits of marks by which rules know programs.
    MarkClash = "mark-clash",
    /// Others than root can write a program that rules name, or what it loads.
    ProgramWritable = "program-writable",
    /// A rule names a program that runs whatever it is given.
    ProgramIsInterpreter = "program-is-interpreter",
    /// There is no interface of a name by which rules tell packets apart.
    InterfaceMissing = "interface-missing",
    /// An interface by which rules tell packets apart is a part of another one.
    InterfaceEnslaved = "interface-enslaved",
    /// A rate per source has had no room for some senders.
    RateCrowded = "rate-crowded",
}

impl Code {
    /// The kind of that name.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|code| code.as_str() == text)
    }
}

/// A kind of finding that is known and wanted, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Accepted {
    /// The kind that is accepted.
    pub code: Code,
    /// Why it is accepted.
    pub reason: String,
}
