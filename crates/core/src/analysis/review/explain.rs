//! What each kind of finding means.

use crate::policy::Code;

/// What a kind of finding means, why it matters, and what to do about it.
#[must_use]
pub fn explain(code: Code) -> &'static str {
    match code {
        Code::Shadowed => {
            "Earlier decisions, one or several together, decide every packet that the rule \
             matches, so it never does anything. If they say the opposite, the rule looks as if it \
             were in force and is not: move it above them. If they say the same, remove it."
        }
        Code::Redundant => {
            "The rule decides packets, but without it every one of them would meet the same \
             verdict from a rule further down. It makes the list longer and hides what matters: \
             remove it, or narrow the other rule if that one is too wide. Rules that are limited \
             or reported (`rate`, `log`) are never called redundant."
        }
        Code::Overlap => {
            "The rule and an earlier one say opposite things about some packets, and neither is an \
             exception to the other: each matches packets that the other does not. For what both \
             match, the earlier one decides. Where something that is to be kept out gets in, this \
             is a warning: move the rule up. A rule that lies wholly within a later, wider one is \
             taken for a deliberate exception and is not reported."
        }
        Code::NeverHere => {
            "The rule is about addresses that this host does not have, so no packet of this host \
             can match it. Often it was copied from another host, or the host's address changed."
        }
        Code::SameAsDefault => {
            "Everything that the rule decides would meet the same verdict from the default. That \
             can be meant as a reminder; it protects against nothing unless the default is changed."
        }
        Code::WideOpen => {
            "The rule allows nearly everybody (at least half of all addresses of an IP version) to \
             reach a port that commonly serves only a few: databases, remote desktops, file \
             shares, metrics, management. Name who needs it with `from`."
        }
        Code::OneIpVersion => {
            "The rule names a place that has addresses of both IP versions, but together with its \
             other conditions it can match packets of one version only. Who connects over the \
             other version is treated by some other rule or the default."
        }
        Code::Expired => {
            "The rule has ended by its `until` and does nothing, or it ends within a week (then \
             this is a note). Remove it, or give it another end."
        }
        Code::OddRate => {
            "The rate does not do what it seems to: either its burst is larger than a whole day of \
             it, so that it hardly limits anything; or it counts everybody together and is open to \
             anywhere, so that one stranger can use it up for all. Count `per source` instead."
        }
        Code::UnusedName => {
            "A place, service or bundle is defined and never used. Perhaps a rule that should use \
             it is missing."
        }
        Code::ShellLockout => {
            "No address can begin a connection to the port at which the remote shell listens, so \
             nobody could administer the host from elsewhere. The port is taken from `shell` in \
             the host's section, or, with `--live`, from what listens here."
        }
        Code::ExpectationFailed => {
            "A statement under `expect` does not hold for every packet that it is about. It is \
             about first packets of connections, not over the loopback interface, to the host's \
             own addresses unless `to` says otherwise. What a limited rule allows counts as allowed."
        }
        Code::NoListener => {
            "The rule allows a port at which nothing on this host listens: the service moved, was \
             removed, or is down. An open port with nothing behind it is an invitation to whatever \
             listens there next."
        }
        Code::UnmentionedListener => {
            "A program listens for others at a port that no rule mentions, so the default decides. \
             Either it should be reachable and a rule is missing, or it should not be there."
        }
        Code::WiderThanUsed => {
            "The rule lets senders of no named place reach a port, and everybody who is connected to it \
             now is at a named place. That is one moment and no proof, but often the rule can be \
             narrowed to those places with `from`."
        }
        Code::LoopbackListener => {
            "A rule opens a port to others, but the program behind it listens on the loopback \
             interface only: nobody else can reach it, whatever the rule says."
        }
        Code::SessionCut => {
            "The session from which you ask could not be opened again under this policy. Established \
             connections live on, but the next login would fail."
        }
        Code::ProgramNeverMatches => {
            "What comes in belongs to a program only if a TCP or UDP socket of it waits for it. A \
             rule that names a program and is about other traffic, such as ICMP, never matches \
             anything that comes in: leave the program out."
        }
        Code::ProgramNeedsReplies => {
            "The packet that ends a TCP handshake, and those of a connection that has just been \
             closed, belong to no socket. With the baseline's `replies` they pass as parts of their \
             connection; without it, no rule for a program could let a connection come about."
        }
        Code::ProgramMissing => {
            "There is no file at the path that the rule names, or it may not be executed, so the \
             rule matches nothing on this machine. Often the path is mistyped or the program was \
             moved. When it appears, enforce the policy again."
        }
        Code::ProgramIsScript => {
            "The rule names a script. The kernel runs the interpreter in its first line, and that \
             is the program whose sockets they are: the rule matches nothing. To name the \
             interpreter would let every script of it pass. Narrow the rule in another way, or \
             give the service a program of its own."
        }
        Code::ProgramShared => {
            "The path leads to a file that goes by another name too. A program is a file, whatever \
             it is called: everything that is run from the same file counts as the same program."
        }
        Code::OtherProgram => {
            "A rule lets others reach a certain program at a port, and another program listens \
             there: what comes in meets some other rule or the default. Either the service has \
             moved to another file, or something has taken its place."
        }
        Code::MarkClash => {
            "Rules know programs by some bits of sockets' marks. Something else on this machine \
             uses marks in a way that reads or overwrites those bits: give `program-marks` of the \
             host's section bits that nobody else uses."
        }
        Code::ProgramWritable => {
            "The rule trusts a program by its file, and somebody else than root can change that file, \
             put another in its place, or change a library that it has loaded: then they have what the \
             rule allows. Give the file and all folders above it to root, and take write permission \
             from others."
        }
        Code::ProgramIsInterpreter => {
            "The rule names a program that runs whatever it is given: everybody who can start it has \
             what the rule allows. Narrow the rule in another way, or give the service a program of \
             its own."
        }
        Code::InterfaceMissing => {
            "A rule tells packets apart by an interface, and there is none of that name or \
             hardware address: it was renamed, or has not come up; or several have the hardware \
             address. Until there is one, a rule for that interface matches nothing, also one that \
             denies. With the hardware address for its name, rules follow it when it is renamed."
        }
        Code::InterfaceEnslaved => {
            "The interface is a part of a bridge, bond or the like. Packets that come in by it are seen \
             as coming in by that one, so a rule for the part means the whole where that lets nobody in by \
             mistake: if it denies, or if the whole is a bond. Otherwise it matches nothing. Name the \
             whole."
        }
        Code::RateCrowded => {
            "The rule keeps a rate for each source, and more sources came at a time than it can tell \
             apart (65,536; in IPv6 networks of 64 bits). Further ones share 16,384 places, by a hash \
             that nobody outside knows: each place keeps the rate, so nobody gets more, and some may \
             get less. So many sources are an attack with forged senders, or a rule for too many. Put \
             a rule for the places that matter above it: those then need no room."
        }
    }
}
