//! What the tests have in common.

use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_linux::{NetlinkSocket, Protocol};

pub fn plan(text: &str) -> HostPlan {
    let policy = read(&Source::new("policy.toml", text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    resolve(&policy, "sluice").expect("the host is there")
}

pub fn netfilter() -> NetlinkSocket {
    NetlinkSocket::open(Protocol::Netfilter).expect("a netlink socket")
}
