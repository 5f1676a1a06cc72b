//! What the running kernel can do, as found by trying it.

use crate::LinuxError;
use crate::flows::flows;
use crate::kernel::tracking;
use crate::programs;
use crate::ruleset::{LOG_GROUP, enforce};
use crate::sockets::{PortProtocol, waiting};
use crate::sys::namespace::Namespace;
use crate::transport::{NetlinkSocket, Protocol, ask};
use crate::watching::Watch;
use tipstaff_core::program::RuleProgram;
use tipstaff_core::space::ConnectionState;
use tipstaff_wire::nflog;

/// What a policy or a command may need of the kernel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Need {
    /// To load rules, and to read them back alike.
    Rules,
    /// To tell by program whose a socket is.
    Programs,
    /// To report packets to whoever asked for them.
    Reports,
    /// To trace packets in a table that goes with whoever made it.
    Traces,
    /// To list the flows that are tracked.
    Flows,
    /// To list the sockets that wait.
    Sockets,
    /// To leave multicast router discovery to the rules.
    RouterDiscovery,
}

/// A need, and whether the kernel meets it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ability {
    /// What is needed.
    pub need: Need,
    /// What it is for.
    pub what: &'static str,
    /// Why it is not there, if it is not; as the kernel says it.
    pub lacking: Option<String>,
    /// What is done without it.
    pub without: &'static str,
}

/// Tries what this kernel can do for a host's rules, each on its own and in a network namespace of its own,
/// so that nothing is changed.
#[must_use]
pub fn abilities(host: &str, program: &RuleProgram) -> Vec<Ability> {
    let mut found = Vec::new();
    let mut note = |need, what, lacking: Option<String>, without| {
        found.push(Ability { need, what, lacking, without });
    };
    let tried = |it: Result<(), LinuxError>| it.err().map(|error| error.to_string());
    let apart = |work: fn(&mut NetlinkSocket) -> Result<(), LinuxError>, protocol: Protocol| {
        Namespace::create().and_then(|it| it.run(|| work(&mut NetlinkSocket::open(protocol)?))?)
    };
    let loaded = Namespace::create().and_then(|it| {
        it.run(|| enforce(&mut NetlinkSocket::open(Protocol::Netfilter)?, host, program).map(drop))?
    });
    note(
        Need::Rules,
        "the policy's rules, loaded and read back alike",
        tried(loaded),
        "they cannot be enforced",
    );
    let lacking = programs::lacking();
    note(
        Need::Programs,
        "telling by program whose a socket is",
        (!lacking.is_empty()).then(|| lacking.join("; ")),
        "rules that name programs are refused; `enforce --without-programs` leaves them out",
    );
    note(
        Need::Reports,
        "reports of packets, for `log` and for rehearsals",
        tried(apart(
            |socket| {
                let group = nflog::Group {
                    number: LOG_GROUP,
                    copy: 64,
                    buffer: 4_096,
                    threshold: 1,
                    timeout: 1,
                };
                ask(socket, "receive packet reports", |n| nflog::bind(&group, n))
            },
            Protocol::Netfilter,
        )),
        "`log` has no effect, and nothing can be rehearsed",
    );
    note(
        Need::Traces,
        "traces of packets that go with whoever asked for them, for `watch`",
        tried(apart(|_| Watch::open().map(drop), Protocol::Netfilter)),
        "`watch` has only what the policy logs: `watch --logged`",
    );
    note(
        Need::Flows,
        "the list of tracked connections, for `cut` and the guard",
        tried(apart(|socket| flows(socket).map(drop), Protocol::Netfilter)),
        "`cut` sees sockets alone, and not what is forwarded",
    );
    note(
        Need::Sockets,
        "the list of sockets, for `reach`, `draft`, `cut` and the guard",
        tried(apart(
            |socket| waiting(socket, &PortProtocol::ALL).map(drop),
            Protocol::SocketDiagnosis,
        )),
        "who listens is not known",
    );
    note(
        Need::RouterDiscovery,
        "multicast router discovery (ICMPv6 151 and 152) left to the rules",
        match tracking() {
            Ok(it) if it.router_discovery == ConnectionState::Invalid => {
                Some("connection tracking calls it invalid".into())
            }
            Ok(_) => None,
            Err(error) => Some(format!("not known: {error}")),
        },
        "`baseline/invalid` denies it before any rule, where tracking calls it that",
    );
    found
}
