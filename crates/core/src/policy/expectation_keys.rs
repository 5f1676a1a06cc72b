//! The keys of an expectation.

use super::shape::{ACCEPT, Shape, TableSpec, WHY, key, required};

/// `expect` of a host or a label.
pub(super) const SPEC: TableSpec = TableSpec {
    kind: "expect",
    meaning: "A statement about the host that must hold whatever its rules are",
    keys: &[
        required(key("traffic", Shape::List, "The traffic it is about", "[\"5432/tcp\"]")),
        required(key(
            "verdict",
            Shape::Text,
            "What all of it must meet: `allow`, `deny` or `reject`",
            "\"deny\"",
        )),
        key("direction", Shape::Text, "As for a rule", "\"inbound\""),
        key("from", Shape::List, "Senders, as for a rule", "[\"anywhere\"]"),
        key("to", Shape::List, "Receivers, as for a rule", "[\"10.44.8.20\"]"),
        key("ingress", Shape::List, "Interfaces, as for a rule", "[\"outside\"]"),
        key("egress", Shape::List, "Interfaces, as for a rule", "[\"stacks\"]"),
        key(
            "published",
            Shape::List,
            "Only what address translation led here from these ports, as for a rule",
            "[\"8088/tcp\"]",
        ),
        key(
            "every-packet",
            Shape::Switch,
            "Whether it is about every packet, also those of connections that there are; if left out, about \
             first packets",
            "true",
        ),
        key(
            "besides",
            Shape::List,
            "Parts of the baseline whose packets it is not about: `dhcp`, `neighbours`",
            "[\"dhcp\", \"neighbours\"]",
        ),
        key(
            "posture",
            Shape::TextOrList,
            "In which postures it must hold; also `none` (if left out), and `always`",
            "\"sealed\"",
        ),
        WHY,
        ACCEPT,
    ],
};
