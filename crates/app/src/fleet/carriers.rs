//! Which carrier is meant.

use super::carrier::Carrier;
use super::etcd::Etcd;
use super::far::Store;
use super::folder::Folder;
use super::over_ssh::OverSsh;
use crate::Failure;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

/// Begins the name of an etcd.
const ETCD: &str = "etcd+";
/// Begins the name of a folder on another machine.
const SSH: &str = "ssh://";

/// A carrier as it is named, and by which certificates it is spoken to.
#[derive(Clone, Debug, Default)]
pub struct CarrierName {
    /// A folder's path, `ssh://[USER@]HOST[:PORT]/PATH`, or `etcd+https://MEMBER:PORT,MEMBER:PORT/PREFIX`.
    pub name: String,
    /// The file of certificates by which it is known.
    pub ca: Option<PathBuf>,
    /// The own certificate.
    pub cert: Option<PathBuf>,
    /// Its key.
    pub key: Option<PathBuf>,
}

impl CarrierName {
    /// That carrier; it is spoken to anew.
    ///
    /// # Errors
    /// [`Failure`] if there can be none of that name.
    pub(super) fn open(&self) -> Result<Box<dyn Carrier + Send>, Failure> {
        match self.name.strip_prefix(ETCD) {
            None if self.name.is_empty() => {
                Err(Failure::usage("no carrier is named", "--carrier PATH"))
            }
            None => match self.name.strip_prefix(SSH) {
                Some(rest) => OverSsh::at(rest).map(|it| Box::new(it) as _).ok_or_else(|| {
                    let message = format!("`{}` is no carrier", self.name.escape_debug());
                    Failure::usage(message, "such as ssh://duty@10.44.8.20/srv/fleet")
                }),
                None => Ok(Box::new(Folder::at(Path::new(&self.name)))),
            },
            Some(rest) => self.etcd(rest),
        }
    }

    fn etcd(&self, rest: &str) -> Result<Box<dyn Carrier + Send>, Failure> {
        let wrong = |why: &str| {
            let message = format!("`{}` is no carrier: {why}", self.name.escape_debug());
            Failure::usage(
                message,
                "such as etcd+https://10.44.8.20:2379,10.44.8.30:2379/tidewater",
            )
        };
        let (scheme, rest) = rest.split_once("://").ok_or_else(|| wrong("`://` is missing"))?;
        let (members, prefix) = rest.split_once('/').ok_or_else(|| wrong("no prefix follows"))?;
        let members: Vec<&str> = members.split(',').collect();
        let plain = match scheme {
            "https" => false,
            "http" => true,
            _ => return Err(wrong("etcd is spoken to by https")),
        };
        // Whoever listens on the way could keep hosts from what is new, and tell lies about them.
        if plain && !members.iter().all(|it| is_loopback(it)) {
            return Err(wrong("other machines are spoken to by https only"));
        }
        if prefix.trim_matches('/').is_empty() || members.iter().any(|it| it.is_empty()) {
            return Err(wrong("a member or the prefix is empty"));
        }
        let own = match (&self.cert, &self.key) {
            (Some(certificate), Some(key)) => Some((certificate.clone(), key.clone())),
            (None, None) => None,
            _ => return Err(wrong("of --carrier-cert and --carrier-key only one is given")),
        };
        let members = members.into_iter().map(|it| format!("{scheme}://{it}")).collect();
        let store = Store { members, ca: self.ca.clone(), own };
        Ok(Box::new(Etcd::at(store, prefix)))
    }
}

/// Whether a member is this machine: `127.0.0.1:2379`, `[::1]:2379`.
fn is_loopback(member: &str) -> bool {
    let host = member.rsplit_once(':').map_or(member, |it| it.0);
    let host = host.trim_start_matches('[').trim_end_matches(']');
    host.parse().is_ok_and(|it: IpAddr| it.is_loopback())
}
