//! `fleet status` for collectors of measurements: the OpenMetrics text format (version 1.0.0).

use super::exposition::{Exposition, Kind};
use tipstaff_app::fleet::{HostStands, Overview};
use tipstaff_app::vocabulary::Stands;

/// How things stand with the hosts of a fleet as measurements.
pub fn overview_metrics(report: &Overview) -> String {
    let mut out = Exposition::of_fleet(&report.fleet);
    if let Some(newest) = report.newest {
        out.gauge("fleet_newest", "The number of the newest sealed bundle that counts.", newest);
    }
    let held = report.order.as_ref().is_some_and(|it| it.held);
    out.gauge("fleet_held", "Whether no more hosts take what is rolled out.", u8::from(held));
    let help = "How many hosts stand so.";
    out.family("fleet_hosts", Kind::Gauge, None, help);
    for &stands in Stands::ALL {
        let hosts = report.hosts.iter().filter(|it| it.stands == stands).count();
        out.sample("fleet_hosts", &[("stands", stands.as_str())], hosts);
    }
    let families: [(&str, &str, OfHost); 4] = [
        ("fleet_host_well", "Whether nobody has to look after the host.", |it| {
            Some(u64::from(it.is_well()))
        }),
        (
            "fleet_host_number",
            "The number of the sealed bundle that the host has.",
            HostStands::has,
        ),
        ("fleet_host_should", "The number that it was told to take.", |it| it.should),
        ("fleet_host_in_force", "Whether its kernel does what that says.", |it| {
            Some(u64::from(it.said.as_ref()?.in_force?))
        }),
    ];
    for (name, help, value) in families {
        out.family(name, Kind::Gauge, None, help);
        for (host, value) in of_hosts(report, value) {
            out.sample(name, &[("host", host)], value);
        }
    }
    let name = "fleet_host_heard_seconds";
    out.family(name, Kind::Gauge, Some("seconds"), "How long ago the host was heard.");
    for (host, value) in of_hosts(report, |it| it.heard) {
        out.sample(name, &[("host", host)], value);
    }
    out.end()
}

/// What is measured of a host, if it is known.
type OfHost = fn(&HostStands) -> Option<u64>;

fn of_hosts(report: &Overview, value: OfHost) -> impl Iterator<Item = (&str, u64)> {
    report.hosts.iter().filter_map(move |it| Some((it.host.as_str(), value(it)?)))
}
