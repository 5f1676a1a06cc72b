//! What a host's interfaces are for, in words.

use crate::Loaded;
use serde::Serialize;

/// The interfaces of a host.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host.
    pub host: String,
    /// Its interfaces, in the order of their roles.
    pub interfaces: Vec<Role>,
}

/// An interface that has a role.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Role {
    /// What it is for.
    pub role: String,
    /// Its name, or the hardware address by which it is known, as written.
    pub interface: String,
    /// The rules that name it.
    pub rules: Vec<String>,
}

/// Lists the host's interfaces.
pub fn report(loaded: &Loaded) -> Report {
    let host = loaded.policy.host(&loaded.plan.host);
    let (interfaces, rules) = host.map_or((&[][..], &[][..]), |it| (&it.interfaces, &it.rules));
    let naming = |name: &String| {
        let is_it = |it: &String| it.strip_prefix('!').unwrap_or(it) == name;
        let named = rules.iter().filter(|it| it.ingress.iter().chain(&it.egress).any(is_it));
        named.map(|it| it.name.clone()).collect()
    };
    let role = |it: &tipstaff_core::policy::Interface| Role {
        role: it.role.clone(),
        interface: it.hardware.map_or_else(|| it.name.clone(), |it| it.to_string()),
        rules: naming(&it.name),
    };
    Report { host: loaded.plan.host.clone(), interfaces: interfaces.iter().map(role).collect() }
}
