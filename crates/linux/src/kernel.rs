//! What differs between kernels, as found by trying it here.

use crate::LinuxError;
use crate::lab::{Interface, Lab, Machine, Topology};
use crate::probe::{Fate, Range, Shot};
use crate::ruleset::enforce;
use crate::transport::{NetlinkSocket, Protocol};
use std::net::{IpAddr, Ipv6Addr};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, Time, Verdict, read};
use tipstaff_core::program::lower;
use tipstaff_core::space::{ConnectionState, Direction, Tracking};
use tipstaff_wire::packet::Payload;

/// The oldest version on which the promises are proven.
pub const OLDEST: (u32, u32) = (5, 10);

/// A version, as far as a kernel's name tells.
fn version(release: &str) -> Option<(u32, u32)> {
    let mut numbers = release.split(|it: char| !it.is_ascii_digit());
    Some((numbers.next()?.parse().ok()?, numbers.next()?.parse().ok()?))
}

/// The running kernel's name, such as `6.18.3-amd64`.
#[must_use]
pub(crate) fn release() -> String {
    rustix::system::uname().release().to_string_lossy().into_owned()
}

/// Whether a kernel of that name is too old for the promises. One that does not tell its version is taken
/// at its deeds.
#[must_use]
pub fn is_too_old(release: &str) -> bool {
    version(release).is_some_and(|it| it < OLDEST)
}

/// A host that denies what connection tracking calls invalid, and nothing else.
const HOST: &str = "edition = 1\n[host.probe]\naddresses = [\"fd44:8::10/64\"]\n\
                    default = { inbound = \"allow\" }\n";

/// How the running kernel tracks connections, by a packet in a lab: to be called in a sealed process (see
/// [`crate::lab::seal`]), or as root.
///
/// # Errors
/// [`LinuxError`] if the system lets us make no lab, or the packet was lost in it.
pub fn tracking() -> Result<Tracking, LinuxError> {
    let odd = |reason: String| LinuxError::Refused {
        doing: "try how it tracks".into(),
        reason: reason.into(),
    };
    let policy = read(&Source::new("probe", HOST)).map_err(|it| odd(format!("{it:?}")))?;
    let plan =
        resolve(&policy, "probe", Time::from_seconds(0)).map_err(|it| odd(format!("{it:?}")))?;
    let address = |last| IpAddr::V6(Ipv6Addr::new(0xfd44, 8, 0, 0, 0, 0, 0, last));
    let machine = |name: &str, last| Machine {
        name: name.into(),
        interfaces: vec![Interface {
            name: "eth0".into(),
            segment: "probe".into(),
            addresses: vec![(address(last), 64)],
        }],
        ..Machine::default()
    };
    let topology = Topology { machines: vec![machine("probe", 0x10), machine("other", 0x20)] };
    let lab = Lab::build(&topology)?;
    let (Some(host), Some(other)) = (lab.node("probe"), lab.node("other")) else {
        return Err(odd("the lab has lost its machines".into()));
    };
    host.run(|| enforce(&mut NetlinkSocket::open(Protocol::Netfilter)?, "probe", &lower(&plan)))??;
    let mut range = Range::open(host, "eth0", other, "eth0")?;
    let shot = Shot {
        direction: Direction::Inbound,
        source: address(0x20),
        destination: address(0x10),
        payload: Payload::Icmp { kind: 151 },
    };
    // On a busy machine a packet can be lost before it meets a rule.
    for _ in 0..4 {
        match range.fire(&[shot])?.fates[..] {
            [Fate::Decided(Verdict::Deny)] => {
                return Ok(Tracking { router_discovery: ConnectionState::Invalid });
            }
            [Fate::Decided(Verdict::Allow)] => {
                return Ok(Tracking { router_discovery: ConnectionState::Untracked });
            }
            _ => {}
        }
    }
    Err(odd("the packet did not arrive".into()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_kernel_is_too_old_by_its_number_and_not_by_its_letters() {
        for old in ["5.9.16", "5.4.0-212-generic", "4.19.0-27-amd64", "3.10.0-1160.el7"] {
            assert!(is_too_old(old), "{old}");
        }
        for fine in ["5.10.0-46-cloud-amd64", "5.15.1", "6.1.0-56", "10.0", "rolling", ""] {
            assert!(!is_too_old(fine), "{fine}");
        }
    }
}
