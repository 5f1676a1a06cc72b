//! Policies made up from a seed.

use super::words::{BLOCKS, BUNDLES, PLACES, PORTS, POSTURE, SERVICES, TURNED_AWAY};
use crate::policy::Time;
use crate::space::Direction;
use std::fmt::Write;

/// The addresses of the host in every generated policy.
pub const HOST: [&str; 4] = ["192.0.2.10", "10.44.8.10", "2001:db8:2::10", "fd44:8::10"];
/// The moment at which generated policies are worked out: some of their rules have ended.
pub const NOW: Time = Time::from_seconds(1_800_000_000);
/// The name of that host.
pub const HOST_NAME: &str = "sluice";

/// A source of made-up things.
#[derive(Clone, Debug)]
pub struct Generator {
    state: u64,
    /// How many rules a host has at most, bundles aside.
    most: usize,
    /// Whether the policy leaves the host's addresses out.
    moving: bool,
}

impl Generator {
    /// Starts from a seed.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self { state: seed, most: 15, moving: seed % 4 == 1 }
    }

    /// Makes policies with up to 80 rules, so that they become lookups.
    #[must_use]
    pub fn crowded(self) -> Self {
        Self { most: 80, ..self }
    }

    /// The next number: SplitMix64 (Steele, Lea, Flood: Fast Splittable Pseudorandom Number
    /// Generators, 2014).
    pub fn number(&mut self) -> u64 {
        self.state = self.state.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.state;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `end`.
    pub fn below(&mut self, end: usize) -> usize {
        usize::try_from(self.number() % end as u64).unwrap_or(0)
    }

    /// Whether something with one chance in `of` happens.
    pub fn one_in(&mut self, of: usize) -> bool {
        self.below(of) == 0
    }

    pub(super) fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        &from[self.below(from.len())]
    }

    /// A whole policy with one host, [`HOST_NAME`].
    pub fn policy(&mut self) -> String {
        let mut text = String::from("edition = 1\n");
        for place in PLACES {
            let blocks = self.list(1, 4, |it| format!("\"{}\"", it.pick(&BLOCKS)));
            let _ = writeln!(text, "\n[place.{place}]\naddresses = {blocks}\nwhy = \"made up\"");
        }
        for service in SERVICES {
            let ports = self.list(1, 3, Self::traffic_term);
            let _ = writeln!(text, "\n[service.{service}]\nports = {ports}");
        }
        // One that is made of the others, with words.
        let [first, second] = SERVICES;
        let _ = writeln!(
            text,
            "\n[service.both.ports]\n{first} = \"made up\"\n{second} = \"\"\n\"7/udp\" = \"too\""
        );
        for bundle in BUNDLES {
            let _ = writeln!(text, "\n[bundle.{bundle}]\nwhy = \"made up\"");
            for number in 0..self.below(3) {
                self.rule(&mut text, &format!("bundle.{bundle}"), &format!("{bundle}-{number}"));
            }
        }
        self.label(&mut text);
        self.head(&mut text);
        let _ = writeln!(text, "\n[host.{HOST_NAME}.default]");
        for direction in Direction::ALL {
            if !self.one_in(4) {
                let verdict = self.pick(&["allow", "deny", "reject"]);
                let _ = writeln!(text, "{} = \"{verdict}\"", direction.as_str());
            }
        }
        let ping =
            self.pick(&["allow", "deny", "by-rules", "1000000/second", "500/minute, burst 100000"]);
        let _ = writeln!(text, "\n[host.{HOST_NAME}.baseline]\nping = \"{ping}\"");
        let parts = [
            "loopback",
            "false-loopback",
            "invalid",
            "replies",
            "outbound-replies",
            "forwarded-replies",
            "neighbours",
            "dhcp",
        ];
        for name in parts {
            if self.one_in(6) {
                // Without neighbours a host's refusals pile up, waiting for hardware addresses, and
                // soon no more are made: what the wire then says is no fault of the rules.
                let on = name == "neighbours" || self.one_in(2);
                let _ = writeln!(text, "{name} = {on}");
            }
        }
        for _ in 0..self.below(3) {
            self.expectation(&mut text);
        }
        let mut bundles = BUNDLES.iter();
        for number in 0..self.below(self.most + 1) {
            self.rule(&mut text, &format!("host.{HOST_NAME}"), &format!("rule-{number}"));
            if self.one_in(4)
                && let Some(bundle) = bundles.next()
            {
                let _ = writeln!(text, "\n[[host.{HOST_NAME}.rule]]\nuse = \"{bundle}\"");
            }
        }
        self.posture(&mut text);
        text
    }

    /// The keys of the host itself.
    fn head(&mut self, text: &mut String) {
        let addresses: Vec<String> = HOST
            .iter()
            .map(|it| format!("\"{it}/{}\"", if it.contains(':') { 64 } else { 24 }))
            .collect();
        let _ = writeln!(text, "\n[host.{HOST_NAME}]");
        if !self.moving {
            let _ = writeln!(text, "addresses = [{}]", addresses.join(", "));
        }
        let _ = writeln!(text, "names = [\"sluice-*\"]\nat-boot = \"{POSTURE}\"");
        let _ = writeln!(text, "labels = [\"edge\"]\nprogram-marks = \"0x00ff0000\"");
        let _ = writeln!(text, "shell = [\"2202/tcp\"]\non-failure = \"closed\"");
        let _ = writeln!(text, "record = \"denied\"\nrecord-for = \"2 days\"");
        let log = self.pick(&["nothing", "denied", "all"]);
        let _ = writeln!(text, "log = \"{log}\"");
        let most =
            self.pick(&["\"50/second\"", "[\"9/second, burst 3\", \"1/minute per source\"]"]);
        let _ = writeln!(text, "log-at-most = {most}");
        let _ = writeln!(text, "interfaces = {{ outside = \"eth0\", stacks = \"eth1\" }}");
        if self.one_in(3) {
            let list = self.list(1, 3, |it| format!("\"{}\"", it.pick(&TURNED_AWAY)));
            let _ = writeln!(text, "turned-away = {list}");
        }
    }

    /// A label that the host has, with a section in half of the policies.
    fn label(&mut self, text: &mut String) {
        if self.one_in(2) {
            return;
        }
        let position = self.pick(&["ahead", "behind"]);
        let _ = writeln!(text, "\n[label.edge]\nposition = \"{position}\"");
        if self.one_in(3) {
            let _ = writeln!(text, "turned-away = [\"{}\"]", self.pick(&TURNED_AWAY));
        }
        let verdict = self.pick(&["allow", "deny", "reject"]);
        let _ = writeln!(text, "[label.edge.default]\nforwarded = \"{verdict}\"");
        let _ = writeln!(text, "[label.edge.baseline]\ndhcp = {}", self.one_in(2));
        for number in 0..self.below(3) {
            self.rule(text, "label.edge", &format!("edge-{number}"));
        }
    }

    fn expectation(&mut self, text: &mut String) {
        let traffic = self.list(1, 3, Self::traffic);
        let verdict = self.pick(&["allow", "deny", "reject"]);
        let direction = self.pick(&Direction::ALL);
        let _ = writeln!(text, "\n[[host.{HOST_NAME}.expect]]\ntraffic = {traffic}");
        let _ = writeln!(text, "verdict = \"{verdict}\"\ndirection = \"{direction}\"");
        let key = if *direction == Direction::Outbound { "egress" } else { "ingress" };
        let (not, every) = (self.pick(&["", "!"]), self.one_in(2));
        let _ = writeln!(text, "from = [\"anywhere\"]\nto = [\"this-host\"]");
        let _ = writeln!(text, "{key} = [\"{not}outside\"]\nevery-packet = {every}");
        let _ = writeln!(text, "besides = [\"dhcp\", \"neighbours\"]");
        if *direction != Direction::Outbound && every && traffic.contains("tcp") {
            let _ = writeln!(text, "published = [\"8000-8099/tcp+udp\"]");
        }
    }

    pub(super) fn rule(&mut self, text: &mut String, section: &str, name: &str) {
        let verdict = self.pick(&["allow", "allow", "deny", "reject"]);
        let mut traffic = self.list(1, 4, Self::traffic);
        if self.one_in(6) {
            // Within what is generated, and never all of it.
            traffic = traffic.replace(']', ", \"!500/udp\", \"!icmp:timestamp-reply\"]");
        }
        let own = self.pick(&HOST).to_owned();
        let _ = writeln!(text, "\n[[{section}.rule]]\nname = \"{name}\"");
        let _ = writeln!(text, "{verdict} = {traffic}\naccept = {{ overlap = \"made up\" }}");
        // So generous that no test meets the limit by accident.
        if *verdict == "allow" && self.one_in(4) {
            let rate = self.pick(&["1000000/second", "1000/second per source, burst 100000"]);
            let _ = writeln!(text, "rate = \"{rate}\"");
        }
        if self.one_in(8) {
            // The first two have ended.
            let until = self.pick(&[
                "2001-01-01T00:00:00Z",
                "\"2026-01-01T00:00:00+01:00\"",
                "2500-01-01T00:00:00Z",
            ]);
            let _ = writeln!(text, "until = {until}");
        }
        if self.one_in(8) {
            let log = self.pick(&["true", "false", "\"10/minute\"", "\"1000/second, burst 9\""]);
            let _ = writeln!(text, "log = {log}");
        }
        let written = self.one_in(2);
        let direction = if written { *self.pick(&Direction::ALL) } else { Direction::Inbound };
        let forwarded = direction == Direction::Forwarded;
        if self.one_in(6) {
            let by = self.pick(&["outside", "eth1", "stacks\", \"outside", "!outside"]);
            let key = if direction == Direction::Outbound { "egress" } else { "ingress" };
            let _ = writeln!(text, "{key} = [\"{by}\"]");
        }
        if written {
            let _ = writeln!(text, "direction = \"{direction}\"");
            if forwarded && self.one_in(3) {
                let by = self.pick(&["outside", "stacks", "eth0\", \"stacks", "!eth1"]);
                let _ = writeln!(text, "egress = [\"{by}\"]");
            }
            if direction != Direction::Forwarded && self.one_in(6) {
                let _ = writeln!(text, "at = [\"{own}\"]");
                return;
            }
        }
        if !forwarded && self.one_in(8) {
            let program =
                self.pick(&["\"/usr/sbin/catalogued\"", "[\"/srv/tidegauge\", \"/opt/seedbase\"]"]);
            let _ = writeln!(text, "program = {program}");
        }
        if !forwarded && self.one_in(10) {
            let user = self.pick(&["\"seedbase\"", "[\"990\", \"catalogued\"]"]);
            let _ = writeln!(text, "user = {user}");
        }
        self.ends(text);
        if self.one_in(6) && traffic.contains("/tcp") {
            let ports = self.pick(&["1024-32767", "40000", "2000-3000\", \"50000-65535"]);
            let _ = writeln!(text, "source-ports = [\"{ports}\"]");
        }
        if direction != Direction::Outbound && self.one_in(4) && traffic.contains("/tcp") {
            let ports = self.pick(&["8088/tcp", "8000-8100/tcp+udp", "8088/udp\", \"80/tcp+sctp"]);
            let _ = writeln!(text, "published = [\"{ports}\"]");
        }
        if self.one_in(8) {
            let _ = writeln!(text, "paused = true");
        }
        if self.one_in(8) {
            let _ = writeln!(text, "why = \"made up\"");
        }
    }

    /// Senders and receivers, of one IP version or both.
    fn ends(&mut self, text: &mut String) {
        let version = self.below(2);
        let both = self.one_in(3);
        for key in ["from", "to"] {
            if self.one_in(2) {
                let list = match (both, self.below(6)) {
                    (_, 0) => "[\"anywhere\"]".into(),
                    (_, 1) => {
                        let (v4, v6) = (self.block(0), self.block(1));
                        format!("[\"!{v4}\", \"!{v6}\"]")
                    }
                    // With both versions on each side, some packet can always match.
                    (true, 2) => "[\"private\", \"!10.44.8.20\"]".into(),
                    (true, 4) if self.one_in(2) => "[\"!this-host\", \"!on-link\"]".into(),
                    (true, 4) => "[\"on-link\", \"203.0.113.70\"]".into(),
                    (true, 3) => {
                        "[\"this-host\", \"203.0.113.0/24\", \"2001:db8:bad::/48\"]".into()
                    }
                    (true, _) => {
                        let (v4, v6) = (self.block(0), self.block(1));
                        format!("[\"{v4}\", \"{v6}\"]")
                    }
                    (false, 2) if version == 0 => "[\"10.44.8.17-10.44.9.3\"]".into(),
                    (false, 2) => "[\"2001:db8:bad::10-2001:db8:bad:1::7\"]".into(),
                    (false, _) => self.list(1, 4, |it| format!("\"{}\"", it.block(version))),
                };
                let _ = writeln!(text, "{key} = {list}");
            }
        }
    }

    fn list(
        &mut self,
        least: usize,
        most: usize,
        mut item: impl FnMut(&mut Self) -> String,
    ) -> String {
        let count = least + self.below(most - least + 1);
        let items: Vec<String> = (0..count).map(|_| item(self)).collect();
        format!("[{}]", items.join(", "))
    }

    /// A block of IPv4 (0) or IPv6 (1) addresses.
    fn block(&mut self, version: usize) -> String {
        loop {
            let block = *self.pick(&BLOCKS);
            if block.contains(':') == (version == 1) {
                return block.to_owned();
            }
        }
    }

    fn traffic(&mut self) -> String {
        match self.below(16) {
            0 | 1 => format!("\"{}\"", self.pick(&SERVICES)),
            3 => "\"both\"".into(),
            2 => format!("\"{}\"", self.pick(&["domain", "https", "postgresql", "x11"])),
            _ => self.traffic_term(),
        }
    }

    /// A term that is not a service.
    fn traffic_term(&mut self) -> String {
        let protocol =
            self.pick(&["tcp", "udp", "tcp+udp", "tcp", "udp", "tcp+udp", "sctp", "udp+sctp"]);
        let port = *self.pick(&PORTS);
        match self.below(8) {
            0 => "\"any\"".into(),
            1 => {
                let kinds = [
                    "icmp",
                    "igmp",
                    "proto:47",
                    "proto:1",
                    "proto:17",
                    "icmp:echo-request",
                    "icmp:destination-unreachable",
                    "icmp:timestamp-request",
                    "icmp:neighbour-solicitation",
                ];
                format!("\"{}\"", self.pick(&kinds))
            }
            2 | 3 => {
                let last = port.saturating_add(u16::try_from(self.below(200)).unwrap_or(0));
                format!("\"{port}-{last}/{protocol}\"")
            }
            _ => format!("\"{port}/{protocol}\""),
        }
    }
}
