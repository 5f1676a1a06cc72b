//! The keys of what is said of all hosts together.

use super::shape::{Shape, TableSpec, WHY, key, required};

/// `fleet` and the tables in it.
pub(super) const FLEET: TableSpec = TableSpec {
    kind: "fleet",
    meaning: "What holds between the hosts",
    keys: &[
        key(
            "route",
            Shape::Tables("fleet.route"),
            "Who stands between whom; the first that fits counts, and where none does, packets go directly",
            "",
        ),
        key("expect", Shape::Tables("fleet.expect"), "Statements that must hold between hosts", ""),
        key(
            "probe",
            Shape::Tables("fleet.probe"),
            "What hosts try before they keep what they took",
            "",
        ),
    ],
};

/// `fleet.route`.
pub(super) const ROUTE: TableSpec = TableSpec {
    kind: "fleet.route",
    meaning: "Which hosts stand between two places, for packets either way",
    keys: &[
        required(key(
            "between",
            Shape::List,
            "The two places, or addresses",
            "[\"tunnel\", \"stacks\"]",
        )),
        key(
            "through",
            Shape::List,
            "The hosts that pass packets on, from the first place to the second; if left out, they go directly",
            "[\"sluice\"]",
        ),
        WHY,
    ],
};

/// `fleet.expect`.
pub(super) const EXPECT: TableSpec = TableSpec {
    kind: "fleet.expect",
    meaning: "A statement about first packets from host to host that must hold whatever the rules are",
    keys: &[
        required(key("traffic", Shape::List, "The traffic it is about", "[\"5432/tcp\"]")),
        required(key(
            "verdict",
            Shape::Text,
            "What all of it must meet on the way: `allow` of all hosts, or `deny` or `reject` of one",
            "\"deny\"",
        )),
        key("from", Shape::List, FROM, "[\"desk\", \"!bench\"]"),
        key("to", Shape::List, "Who receives, likewise", "[\"granary\"]"),
        key("within", Shape::List, WITHIN, "[\"stacks\"]"),
        WHY,
    ],
};

/// `fleet.probe`.
pub(super) const PROBE: TableSpec = TableSpec {
    kind: "fleet.probe",
    meaning: "A connection that hosts try before and after they put in force what they took, and every minute: if it was \
              answered before and is not any more, they go back",
    keys: &[
        required(key("traffic", Shape::List, "The ports, of TCP", "[\"5432/tcp\"]")),
        required(key("to", Shape::List, "Who has to answer: hosts, or labels", "[\"granary\"]")),
        key(
            "from",
            Shape::List,
            "Who tries, likewise; all other hosts if left out",
            "[\"sluice\"]",
        ),
        key("within", Shape::List, WITHIN, "[\"stacks\"]"),
        WHY,
    ],
};

const FROM: &str = "Who sends: hosts, or labels, for all hosts that have them; those with `!` left out; all hosts if left out";

const WITHIN: &str =
    "Only addresses of theirs that are in these places; all that they have if left out";
