//! The tables and keys of the policy language: the one list behind reading, suggestions and
//! the reference page.

use super::shape::{ACCEPT, Shape, TableSpec, WHY, key, required, switch};
use super::{expectation_keys, fleet_keys, whereabouts};

impl TableSpec {
    /// The table of that kind.
    ///
    /// # Panics
    /// If no such table is in [`SCHEMA`], which only a mistake in this crate can cause.
    #[must_use]
    pub fn of(kind: &str) -> &'static Self {
        SCHEMA
            .iter()
            .find(|table| table.kind == kind)
            .unwrap_or_else(|| unreachable!("no table `{kind}` in the schema"))
    }
}

const POSITION: &str =
    "Where its rules stand: `ahead` of the host's own (if left out), or `behind` them";

/// Every table of the language.
pub const SCHEMA: &[TableSpec] = &[
    TableSpec {
        kind: "",
        meaning: "The file itself",
        keys: &[
            required(key("edition", Shape::Number, "Which language the file is in: 1", "1")),
            key("place", Shape::Named("place"), "Named sets of addresses", ""),
            key(
                "delegations",
                Shape::TextOrList,
                "Files in which registries say to which country addresses are delegated, in their extended \
                 format: paths, or https addresses",
                "[\"lists/registry.txt\"]",
            ),
            key("service", Shape::Named("service"), "Named sets of ports", ""),
            key("bundle", Shape::Named("bundle"), "Named lists of rules", ""),
            key("label", Shape::Named("label"), "What all hosts with a label have", ""),
            key("host", Shape::Named("host"), "The machines, one section each", ""),
            key("fleet", Shape::Table("fleet"), "What holds between them", ""),
        ],
    },
    TableSpec {
        kind: "place",
        meaning: "A named set of addresses",
        keys: &[
            key(
                "addresses",
                Shape::List,
                "Networks, single addresses and ranges, of both IP versions",
                "[\"198.51.100.0/27\", \"2001:db8:51::/64\"]",
            ),
            key(
                "file",
                Shape::TextOrList,
                "Files with more of them, one a line, `#` before remarks: paths, or https addresses; what counts \
                 is what `tipstaff place refresh` read last",
                "\"lists/nuisance.txt\"",
            ),
            key(
                "column",
                Shape::Text,
                "The column of those files in which the addresses are, if they have comma-separated values",
                "\"network\"",
            ),
            key(
                "country",
                Shape::TextOrList,
                "Codes of countries whose addresses belong to it, by the files that `delegations` names",
                "[\"XA\"]",
            ),
            key(
                "except",
                Shape::List,
                "Addresses and places that do not belong to it, whatever else says so",
                "[\"curators\"]",
            ),
            WHY,
            ACCEPT,
        ],
    },
    TableSpec {
        kind: "service",
        meaning: "A named set of ports, to be used like a traffic term",
        keys: &[
            required(key(
                "ports",
                Shape::ListOrWords,
                "The traffic terms that it stands for, other services among them; as a table, with \
                 what each is for",
                "{ \"5432/tcp\" = \"Queries\", \"5433/tcp\" = \"Copies\" }",
            )),
            WHY,
            ACCEPT,
        ],
    },
    TableSpec {
        kind: "bundle",
        meaning: "A named list of rules, which a host takes in with `use`",
        keys: &[key("rule", Shape::Tables("rule"), "The rules, in order", ""), WHY, ACCEPT],
    },
    TableSpec {
        kind: "label",
        meaning: "What every host that has the label among its `labels` has beside its own",
        keys: &[
            key("rule", Shape::Tables("rule"), "Rules, in order", ""),
            key("position", Shape::Text, POSITION, "\"behind\""),
            key("default", Shape::Table("default"), "Defaults, where the host says nothing", ""),
            key("baseline", Shape::Table("baseline"), "Likewise for the baseline", ""),
            key("expect", Shape::Tables("expect"), "Statements that must hold", ""),
            key(
                "turned-away",
                Shape::List,
                "Who is turned away, beside those of the host",
                "[\"nuisance\"]",
            ),
            WHY,
            ACCEPT,
        ],
    },
    TableSpec {
        kind: "host",
        meaning: "One machine",
        keys: &[
            key(
                "addresses",
                Shape::List,
                "The machine's own addresses; with a prefix length where `on-link` is used. Left out where \
                 they change: then they are those that the kernel has at the moment",
                "[\"192.0.2.10/24\", \"2001:db8:2::10/64\"]",
            ),
            key(
                "names",
                Shape::List,
                "Host names of the machines that it is for, besides its own name; `*` stands for any \
                 letters, also none",
                "[\"web-*\"]",
            ),
            key(
                "labels",
                Shape::List,
                "Words that describe it; those with a section `[label.NAME]` also bring what that says",
                "[\"edge\"]",
            ),
            key(
                "interfaces",
                Shape::Words,
                "What its interfaces are for: a role of your choice for each name or hardware address",
                "{ outside = \"eth0\", stacks = \"eth1\" }",
            ),
            key("default", Shape::Table("default"), "What happens where no rule decides", ""),
            key("baseline", Shape::Table("baseline"), "What keeps the network working", ""),
            key("rule", Shape::Tables("rule"), "The rules; the first that matches decides", ""),
            key("expect", Shape::Tables("expect"), "Statements that must hold", ""),
            key("posture", Shape::Named("posture"), "What holds in certain situations instead", ""),
            key(
                "at-boot",
                Shape::Text,
                "The posture that every boot begins in; if left out, the one that was taken without an end",
                "\"sealed\"",
            ),
            key(
                "turned-away",
                Shape::List,
                "Places and addresses that nothing comes from and nothing goes to, ahead of pings, \
                 replies and all rules; each may have ` until ` and a moment behind it, and a reason \
                 in brackets",
                "[\"nuisance\", \"203.0.113.9\"]",
            ),
            key(
                "record",
                Shape::Text,
                "Whom the kernel remembers, for `callers`: `denied` (if left out) all who were not \
                 admitted, `all` also new connections that were, `off` nobody",
                "\"all\"",
            ),
            key(
                "record-for",
                Shape::Text,
                "For how long after they came last: `7 days` if left out; also hours and minutes",
                "\"30 days\"",
            ),
            key(
                "log",
                Shape::Text,
                "Which decisions the kernel reports, for `watch --logged`: `nothing` (if left out), \
                 `denied` those that turn away, `all` also new connections that are admitted",
                "\"denied\"",
            ),
            key(
                "log-at-most",
                Shape::TextOrList,
                "How many are reported: all together, and of one sender (`per source`). If left out, \
                 `100/second, burst 1000` and `60/minute per source`",
                "[\"20/second\", \"10/minute per source\"]",
            ),
            key(
                "on-failure",
                Shape::Text,
                "If its rules cannot be loaded at boot: `closed` (if left out) keeps only the \
                 baseline and the remote shell, `open` lets everything pass",
                "\"closed\"",
            ),
            key(
                "program-marks",
                Shape::Text,
                "The bits of sockets' marks by which rules know programs; others must leave them \
                 alone. `0xff000000` if left out",
                "\"0x00ff0000\"",
            ),
            key(
                "shell",
                Shape::List,
                "Where its remote shell listens; `review` sees to it that somebody can reach it",
                "[\"2202/tcp\"]",
            ),
            ACCEPT,
        ],
    },
    TableSpec {
        kind: "posture",
        meaning: "What holds in a certain situation, from `posture take` until it is left",
        keys: &[
            key("rule", Shape::Tables("rule"), "Rules, in order, ahead of the host's own", ""),
            key(
                "instead",
                Shape::Switch,
                "Whether they stand instead of the host's own rules (and its labels')",
                "true",
            ),
            key(
                "when",
                Shape::Table("when"),
                "Where the machine is while it holds by itself, as far as that can be told",
                "",
            ),
            key("default", Shape::Table("default"), "Defaults, where they are others", ""),
            key("baseline", Shape::Table("baseline"), "Likewise for the baseline", ""),
            key(
                "turned-away",
                Shape::List,
                "Who is turned away, beside those of the host",
                "[\"nuisance\"]",
            ),
            WHY,
            ACCEPT,
        ],
    },
    whereabouts::TABLE,
    TableSpec {
        kind: "default",
        meaning: "What happens to packets that no rule decides: `allow`, `deny` or `reject`",
        keys: &[
            key("inbound", Shape::Text, "To this machine; `deny` if left out", "\"deny\""),
            key("outbound", Shape::Text, "From this machine; `allow` if left out", "\"allow\""),
            key("forwarded", Shape::Text, "Through this machine; `deny` if left out", "\"deny\""),
        ],
    },
    TableSpec {
        kind: "baseline",
        meaning: "The few things that keep the network working; always first, always shown",
        keys: &[
            switch("loopback", "Traffic on the loopback interface is allowed"),
            switch("false-loopback", "Loopback addresses from elsewhere are denied"),
            switch("invalid", "What fits no connection is denied"),
            key(
                "ping",
                Shape::Text,
                "Echo requests: `allow`, `deny`, a rate, or `by-rules`; `5/second` if left out",
                "\"5/second\"",
            ),
            switch("replies", "Replies, and errors about what was allowed, are allowed"),
            switch(
                "outbound-replies",
                "Likewise for what leaves this machine; with `false` the rules decide about every packet that does",
            ),
            switch("forwarded-replies", "Likewise for what passes through it"),
            switch("neighbours", "Neighbour discovery, MLD and IGMP are allowed"),
            switch("dhcp", "What a DHCP client needs is allowed"),
        ],
    },
    TableSpec {
        kind: "rule",
        meaning: "One statement about traffic, with a `name` and exactly one of `allow`, `deny` and \
                  `reject`; or `use`, which stands for all rules of a bundle",
        keys: &[
            key("name", Shape::Text, "Its name, unique on the host", "\"catalogue\""),
            key("use", Shape::Text, "The bundle to take in here", "\"staff-access\""),
            key(
                "allow",
                Shape::List,
                "Traffic that may pass; terms with `!` are left out",
                "[\"80/tcp\", \"443/tcp+udp\"]",
            ),
            key("deny", Shape::List, "Traffic that is dropped in silence", "[\"any\"]"),
            key("reject", Shape::List, "Traffic that is refused with an answer", "[\"113/tcp\"]"),
            key(
                "direction",
                Shape::Text,
                "`inbound` (if left out), `outbound` or `forwarded`",
                "\"outbound\"",
            ),
            key(
                "from",
                Shape::List,
                "Senders: places and addresses, those with `!` left out; anywhere if left out",
                "[\"curators\", \"10.44.8.0/24\", \"!10.44.8.30\"]",
            ),
            key("to", Shape::List, "Receivers, likewise", "[\"10.44.8.20-10.44.8.29\"]"),
            key(
                "at",
                Shape::List,
                "Only at these of the host's own addresses (not for `forwarded`)",
                "[\"192.0.2.10\"]",
            ),
            key(
                "ingress",
                Shape::List,
                "Only what comes in by these interfaces, by role or name (not for `outbound`); `!` ahead of a single \
                 one: by all others",
                "[\"outside\"]",
            ),
            key(
                "egress",
                Shape::List,
                "Only what goes out by these interfaces, likewise (not for `inbound`)",
                "[\"!stacks\"]",
            ),
            key(
                "source-ports",
                Shape::List,
                "Only from these ports, where packets have ports",
                "[\"1024-65535\"]",
            ),
            key(
                "published",
                Shape::List,
                "Only what address translation led here from these ports, which callers see (not for `outbound`)",
                "[\"8088/tcp\"]",
            ),
            key(
                "rate",
                Shape::Text,
                "For `allow`: how many new connections or flows; the excess meets silence",
                "\"6/minute per source, burst 4\"",
            ),
            key(
                "program",
                Shape::TextOrList,
                "Only for sockets of these executables on this host, by absolute path",
                "\"/usr/sbin/catalogued\"",
            ),
            key(
                "user",
                Shape::TextOrList,
                "Only for sockets of these users on this host, by name or number",
                "\"seedbase\"",
            ),
            key(
                "log",
                Shape::Cap,
                "Report the packets that it takes; with a rate, at most so many",
                "\"10/minute\"",
            ),
            key(
                "until",
                Shape::Time,
                "The moment at which the rule ends by itself (RFC 3339)",
                "2026-12-24T18:00:00Z",
            ),
            key("paused", Shape::Switch, "Kept in the file, but not in force", "true"),
            WHY,
            ACCEPT,
        ],
    },
    expectation_keys::SPEC,
    fleet_keys::FLEET,
    fleet_keys::ROUTE,
    fleet_keys::EXPECT,
    fleet_keys::PROBE,
];
