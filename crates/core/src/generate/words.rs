//! What generated policies and packets name.

/// The posture that generated policies have.
pub const POSTURE: &str = "away";

pub(super) const BLOCKS: [&str; 16] = [
    "198.51.100.0/27",
    "198.51.100.128/28",
    "203.0.113.0/24",
    "203.0.113.64/28",
    "203.0.113.70",
    "192.0.2.0/24",
    "192.0.2.10",
    "10.44.8.0/24",
    "10.44.8.20",
    "2001:db8:51::/64",
    "2001:db8:be::/64",
    "2001:db8:bad::/48",
    "2001:db8:bad::/64",
    "2001:db8:2::10",
    "fd44:8::/64",
    "fd44:8::20",
];
pub(super) const PORTS: [u16; 10] = [1, 22, 53, 80, 443, 2202, 5432, 9100, 22_000, 65_535];
pub(super) const SERVICES: [&str; 2] = ["catalogue", "remote"];
pub(super) const BUNDLES: [&str; 2] = ["staff-access", "monitoring"];
/// Who is turned away: places, machines, networks.
pub(super) const TURNED_AWAY: [&str; 7] = [
    "strangers",
    "203.0.113.64/28",
    "2001:db8:bad::/64",
    "198.51.100.128/28",
    "10.44.8.20",
    "203.0.113.9 until 2099-12-24T18:00:00Z (knocks)",
    "10.44.8.30 until 2001-12-24T18:00:00Z",
];
pub(super) const PLACES: [&str; 3] = ["curators", "herbarium", "strangers"];
pub(super) const USERS: [&str; 4] = ["990", "catalogued", "seedbase", "tidegauge"];
pub(super) const PROGRAMS: [&str; 4] =
    ["/usr/sbin/catalogued", "/srv/tidegauge", "/opt/seedbase", "/usr/bin/other"];
