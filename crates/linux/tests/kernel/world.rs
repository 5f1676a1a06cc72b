//! What the tests have in common.

use std::sync::OnceLock;
use std::time::Duration;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_core::space::Tracking;
use tipstaff_linux::ruleset::LOG_GROUP;
use tipstaff_linux::{NetlinkSocket, Protocol, Transport};
use tipstaff_wire::WireError;
use tipstaff_wire::netlink::{DONE, split};
use tipstaff_wire::nf_tables::{self as nf, FAMILY_INET};
use tipstaff_wire::nflog;

pub fn plan(text: &str) -> HostPlan {
    let policy = read(&Source::new("policy.toml", text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    let mut plan =
        resolve(&policy, "sluice", tipstaff_core::generate::NOW).expect("the host is there");
    tipstaff_core::generate::settle(&mut plan);
    plan
}

pub fn netfilter() -> NetlinkSocket {
    NetlinkSocket::open(Protocol::Netfilter).expect("a netlink socket")
}

/// A socket that receives what rules are to log.
pub fn listen_to_reports() -> NetlinkSocket {
    let mut socket = netfilter();
    let group =
        nflog::Group { number: LOG_GROUP, copy: 64, buffer: 4_096, threshold: 1, timeout: 1 };
    socket.send(&nflog::bind(&group, 1).expect("fits")).expect("sent");
    let answer = socket.receive().expect("answered");
    assert_eq!(split(&answer).expect("splits")[0].answer().expect("an answer").errno, 0);
    socket.patience(Duration::from_millis(300)).expect("set");
    socket
}

/// The names under which packets were reported, until no more come.
pub fn reported(socket: &mut NetlinkSocket) -> Vec<String> {
    let mut names = Vec::new();
    while let Ok(datagram) = socket.receive() {
        for message in
            split(&datagram).expect("splits").iter().filter(|it| it.kind == nflog::PACKET)
        {
            names.push(nflog::decode(message.body).expect("a report").prefix.to_owned());
        }
    }
    names
}

/// How this kernel tracks connections; tried once.
pub fn tracking() -> Tracking {
    static TRIED: OnceLock<Tracking> = OnceLock::new();
    *TRIED.get_or_init(|| tipstaff_linux::tracking().expect("it can be tried"))
}

/// All things of a kind that the kernel lists.
pub fn listed<T>(
    socket: &mut NetlinkSocket,
    kind: u16,
    decode: fn(&[u8]) -> Result<T, WireError>,
) -> Vec<T> {
    let sequence = socket.next_sequence();
    let request = nf::dump(kind, FAMILY_INET, sequence, |_| {}).expect("fits");
    socket.send(&request).expect("sent");
    let mut found = Vec::new();
    loop {
        let datagram = socket.receive().expect("answered");
        for message in split(&datagram).expect("splits").iter().filter(|it| it.sequence == sequence)
        {
            if message.kind == DONE {
                return found;
            }
            found.push(decode(message.body).expect("one"));
        }
    }
}
