//! UDP ports of named programs: what goes on there passes for them only.

use crate::given::{packet, plan, udp};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::space::{ConnectionState, Direction, Packet};

const HOST: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n";
const GAUGE: &str = "/srv/tidegauge";
const SEEDS: &str = "/opt/seedbase";

fn allow(name: &str, keys: &str) -> String {
    format!("[[host.sluice.rule]]\nname = \"{name}\"\nallow = {keys}\n")
}

/// Who decides about a packet in the middle of a flow, to such a port of such a program.
fn inbound(plan: &HostPlan, port: u16, program: Option<&str>) -> String {
    let packet = Packet {
        state: ConnectionState::Established,
        program: program.map(str::to_owned),
        ..packet("203.0.113.9", "192.0.2.10", udp(40_000, port))
    };
    plan.evaluate(&packet).by.to_string()
}

/// The same from such a port of this host.
fn outbound(plan: &HostPlan, port: u16, program: Option<&str>) -> String {
    let packet = Packet {
        direction: Direction::Outbound,
        state: ConnectionState::Established,
        program: program.map(str::to_owned),
        ..packet("192.0.2.10", "203.0.113.9", udp(port, 40_000))
    };
    plan.evaluate(&packet).by.to_string()
}

#[test]
fn flows_at_a_programs_port_are_its_own() {
    let rules = allow("gauge", "[\"5353/udp\"]\nprogram = \"/srv/tidegauge\"");
    let plan = plan(&format!("{HOST}{rules}"), "sluice");
    assert_eq!(inbound(&plan, 5353, Some(GAUGE)), "baseline/replies");
    assert_eq!(inbound(&plan, 5353, Some(SEEDS)), "default/inbound");
    assert_eq!(inbound(&plan, 5353, None), "default/inbound");
    assert_eq!(outbound(&plan, 5353, Some(GAUGE)), "baseline/replies");
    assert_eq!(outbound(&plan, 5353, Some(SEEDS)), "default/outbound");
    // At other ports replies pass, whoever it is.
    for port in [5352, 5354, 40_000] {
        assert_eq!(inbound(&plan, port, Some(SEEDS)), "baseline/replies");
        assert_eq!(outbound(&plan, port, Some(SEEDS)), "baseline/replies");
    }
    let chain = plan.chain(Direction::Inbound);
    let replies = chain.decisions.iter().find(|it| it.id.to_string() == "baseline/replies");
    let written = &replies.expect("it is there").written.traffic;
    assert_eq!(written, "replies, related; at 5353/udp of /srv/tidegauge");
}

#[test]
fn ports_that_several_rules_name_belong_to_all_of_their_programs() {
    let rules = allow("gauge", "[\"5350-5355/udp\"]\nprogram = \"/srv/tidegauge\"")
        + &allow("seeds", "[\"5353-5360/udp\"]\nprogram = \"/opt/seedbase\"")
        + &allow("open", "[\"5355/udp\"]\nfrom = [\"10.44.8.0/24\"]")
        + &allow("paused", "[\"5360/udp\"]\npaused = true")
        + &allow("ended", "[\"5359/udp\"]\nuntil = 2001-01-01T00:00:00Z");
    let plan = plan(&format!("{HOST}{rules}"), "sluice");
    let passes = |port, program| inbound(&plan, port, Some(program)) == "baseline/replies";
    for (port, gauge, seeds) in [
        (5350, true, false),
        (5352, true, false),
        (5353, true, true),
        (5354, true, true),
        // Somebody may reach whoever is there.
        (5355, true, true),
        (5356, false, true),
        // What is not in force opens nothing.
        (5359, false, true),
        (5360, false, true),
    ] {
        assert_eq!((passes(port, GAUGE), passes(port, SEEDS)), (gauge, seeds), "{port}");
    }
}

#[test]
fn many_ports_and_hosts_that_are_open_are_left_alone() {
    let program = "program = \"/srv/tidegauge\"";
    for (range, narrowed) in [("5000-6023", true), ("5000-6024", false)] {
        let rules = allow("gauge", &format!("[\"{range}/udp\"]\n{program}"));
        let plan = plan(&format!("{HOST}{rules}"), "sluice");
        assert_eq!(inbound(&plan, 5353, Some(SEEDS)) != "baseline/replies", narrowed, "{range}");
    }
    let rules = allow("gauge", &format!("[\"5353/udp\"]\n{program}"));
    let open = format!("{HOST}[host.sluice.default]\ninbound = \"allow\"\n{rules}");
    assert_eq!(inbound(&plan(&open, "sluice"), 5353, Some(SEEDS)), "baseline/replies");
    // TCP has connections of its own, and other directions other lists.
    for keys in ["[\"5353/tcp\"]", "[\"5353/udp\"]\ndirection = \"outbound\""] {
        let rules = allow("gauge", &format!("{keys}\n{program}"));
        let plan = plan(&format!("{HOST}{rules}"), "sluice");
        assert_eq!(inbound(&plan, 5353, Some(SEEDS)), "baseline/replies", "{keys}");
    }
}

#[test]
fn ports_of_users_are_their_own_too() {
    let keys = "program = \"/srv/tidegauge\"\nuser = [\"990\", \"seedbase\"]";
    let rules = allow("gauge", &format!("[\"5353/udp\"]\n{keys}"))
        + &allow("seeds", "[\"5353-5354/udp\"]\nuser = \"tidegauge\"");
    let plan = plan(&format!("{HOST}{rules}"), "sluice");
    let by = |port, program: Option<&str>, user: Option<&str>| {
        let packet = Packet {
            state: ConnectionState::Established,
            program: program.map(str::to_owned),
            user: user.map(str::to_owned),
            ..packet("203.0.113.9", "192.0.2.10", udp(40_000, port))
        };
        plan.evaluate(&packet).by.to_string()
    };
    let (passes, not) = ("baseline/replies", "default/inbound");
    assert_eq!(by(5353, Some(GAUGE), Some("990")), passes);
    assert_eq!(by(5353, Some(GAUGE), Some("seedbase")), passes);
    assert_eq!(by(5353, Some(GAUGE), None), not);
    assert_eq!(by(5353, None, Some("990")), not);
    assert_eq!(by(5353, Some(SEEDS), Some("tidegauge")), passes);
    assert_eq!(by(5354, Some(GAUGE), Some("990")), not);
    assert_eq!(by(5354, None, Some("tidegauge")), passes);
    assert_eq!(by(5355, None, None), passes, "at other ports replies pass");
    let chain = plan.chain(Direction::Inbound);
    let replies = chain.decisions.iter().find(|it| it.id.to_string() == "baseline/replies");
    assert_eq!(
        replies.expect("it is there").written.traffic,
        "replies, related; at 5353/udp of /srv/tidegauge by 990 or seedbase, by tidegauge; at \
         5354/udp by tidegauge"
    );
}
