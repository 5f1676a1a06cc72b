//! What leaves beside a tunnel.

use crate::given::{address, packet, policy, tcp, udp};
use tipstaff_core::analysis::{Finding, failing, review_expectations};
use tipstaff_core::draft::{Facts, Link, Tunnel, draft};
use tipstaff_core::generate::NOW;
use tipstaff_core::plan::{LinkSeen, Whole, resolve};
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::lower;
use tipstaff_core::space::Direction;

/// Terms with `!`, in lists of traffic and of interfaces.
#[test]
fn what_is_left_out_of_traffic_and_interfaces_is_left_out() {
    let with = |keys: &str| {
        format!(
            "edition = 1\n[host.bench]\naddresses = [\"192.0.2.1\"]\n[[host.bench.rule]]\nname = \"it\"\n\
             direction = \"outbound\"\n{keys}\n[host.bench.default]\noutbound = \"deny\"\n"
        )
    };
    let allowed = |keys: &str, out: &str, port: u16| {
        let plan = resolve(&policy(&with(keys)), "bench", NOW).expect("the host");
        let mut packet = packet("192.0.2.1", "203.0.113.5", tcp(port));
        (packet.direction, packet.out_interface) = (Direction::Outbound, Some(out.into()));
        plan.evaluate(&packet).verdict == Verdict::Allow
    };
    for (keys, fates) in [
        ("allow = [\"any\", \"!25/tcp\"]", [true, false]),
        ("allow = [\"20-30/tcp\", \"!25/tcp\"]", [false, false]),
        ("allow = [\"!80/tcp\"]", [false, true]),
        ("allow = [\"any\"]\negress = [\"!tun0\"]", [true, true]),
        ("allow = [\"any\"]\negress = [\"!eth0\"]", [false, false]),
    ] {
        assert_eq!([80, 25].map(|port| allowed(keys, "eth0", port)), fates, "{keys}");
    }
    let told = |keys: &str| {
        let source = tipstaff_core::policy::Source::new("policy.toml", &with(keys));
        let problems = tipstaff_core::policy::read(&source).expect_err("a mistake");
        let label = problems[0].primary.as_ref().map(|it| it.text.clone()).unwrap_or_default();
        format!("{}: {}; {label}", problems[0].code, problems[0].message)
    };
    insta::assert_snapshot!(told("allow = [\"25/tcp\", \"!smtp\", \"!20-30/tcp\"]"), @"nothing-left: `allow` leaves out all that it names; no packet can match");
    insta::assert_snapshot!(told("allow = [\"any\"]\negress = [\"!tun0\", \"eth0\"]"), @r#"interface-exception: `!tun0` stands beside others; all interfaces but one are a list by themselves, such as ["!tunnel"]"#);
    insta::assert_snapshot!(told("allow = [\"any\"]\negress = [\"!\"]"), @"unknown-interface: `` is no interface of this host; a name has 1 to 15 letters, no space, no slash");
}

/// A laptop that may use only its tunnel.
const LAPTOP: &str = r#"edition = 1
[host.bench]
interfaces = { tunnel = "tun0", home = "eth0" }
[host.bench.default]
outbound = "deny"
[host.bench.baseline]
outbound-replies = false
forwarded-replies = false
[[host.bench.rule]]
name = "tunnel-endpoint"
direction = "outbound"
allow = ["51820/udp"]
to = ["198.51.100.99"]
egress = ["!tunnel"]
[[host.bench.rule]]
name = "through-tunnel"
direction = "outbound"
allow = ["any"]
egress = ["tunnel"]
[[host.bench.expect]]
direction = "outbound"
traffic = ["any"]
to = ["!198.51.100.99"]
egress = ["!tunnel"]
every-packet = true
besides = ["dhcp", "neighbours"]
verdict = "deny"
[[host.bench.expect]]
direction = "outbound"
traffic = ["any", "!51820/udp"]
to = ["198.51.100.99"]
egress = ["!tunnel"]
every-packet = true
besides = ["dhcp", "neighbours"]
verdict = "deny"
[[host.bench.expect]]
direction = "forwarded"
traffic = ["any"]
egress = ["!tunnel"]
every-packet = true
verdict = "deny"
"#;

/// What `review` says of a policy's expectations; for each, what shows it.
fn leaks(text: &str) -> String {
    let policy = policy(text);
    let plan = resolve(&policy, "bench", NOW).expect("the host");
    let likely = |direction| {
        let mut packet = packet("192.0.2.1", "203.0.113.5", udp(40_000, 443));
        packet.direction = direction;
        packet
    };
    let found = review_expectations(&policy, &plan, NOW, &likely);
    let one = |it: &Finding| {
        let packet = it.witness.as_ref().expect("a packet that shows it");
        // It really leaves.
        assert_eq!(plan.evaluate(packet).verdict, Verdict::Allow);
        assert_ne!(packet.out_interface.as_deref(), Some("tun0"));
        let (from, to, out) = (packet.source, packet.destination, packet.out_interface.as_deref());
        let state = packet.state.as_str();
        format!("{}\n  {state}, {from} to {to}, {:?} by {out:?}\n", it.message, packet.transport)
    };
    found.iter().map(one).collect()
}

/// Nothing but the tunnel's own packets, DHCP and neighbour discovery leaves by another interface; each leak is
/// told for what it is, with a packet.
#[test]
fn leaks_beside_a_tunnel_are_found() {
    assert_eq!(leaks(LAPTOP), "");
    let with = |old: &str, new: &str| {
        let text = LAPTOP.replacen(old, new, 1);
        assert_ne!(text, LAPTOP);
        leaks(&text)
    };
    insta::assert_snapshot!(with("outbound-replies = false", ""), @r"
    expected deny for outbound any from anywhere to !198.51.100.99 out by not tun0, but it is allow for a part of it, by `baseline/replies`; there leaks packets of connections that stand: answers to those that came in, and those whose way falls back to another interface when theirs is gone
      established, 192.0.2.1 to 203.0.113.5, Ports { protocol: Udp, source: 40000, destination: 443 } by None
    expected deny for outbound any, !51820/udp from anywhere to 198.51.100.99 out by not tun0, but it is allow for a part of it, by `baseline/replies`; there leaks packets of connections that stand: answers to those that came in, and those whose way falls back to another interface when theirs is gone
      established, 192.0.2.1 to 198.51.100.99, Ports { protocol: Udp, source: 40000, destination: 443 } by None
    ");
    insta::assert_snapshot!(with("allow = [\"51820/udp\"]", "allow = [\"51820/udp\", \"domain\"]"), @r"
    expected deny for outbound any, !51820/udp from anywhere to 198.51.100.99 out by not tun0, but it is allow for a part of it, by `tunnel-endpoint`; there leaks name resolution
      new, 192.0.2.1 to 198.51.100.99, Ports { protocol: Udp, source: 40000, destination: 53 } by None
    ");
    insta::assert_snapshot!(with("egress = [\"tunnel\"]", "to = [\"::/0\"]"), @r"
    expected deny for outbound any from anywhere to !198.51.100.99 out by not tun0, but it is allow for a part of it, by `through-tunnel`; there leaks name resolution; all of this over IPv6 only
      new, 2001:db8::1 to 2001:db8::2, Ports { protocol: Udp, source: 40000, destination: 443 } by None
    ");
    insta::assert_snapshot!(with("\noutbound = \"deny\"", "\noutbound = \"deny\"\nforwarded = \"allow\""), @r"
    expected deny for forwarded any from anywhere out by not tun0, but it is allow for a part of it, by `default/forwarded`; there leaks what is forwarded, such as that of virtual machines; name resolution
      new, 192.0.2.1 to 203.0.113.5, Ports { protocol: Udp, source: 40000, destination: 443 } by None
    ");
}

/// Whatever a machine calls an interface, all others are all others.
#[test]
fn all_interfaces_but_one_are_placed_on_a_machine() {
    let text = "edition = 1\n[host.bench]\ninterfaces = { tunnel = \"52:54:00:12:34:56\" }\n\
        [host.bench.default]\noutbound = \"deny\"\n\
        [[host.bench.rule]]\nname = \"open\"\ndirection = \"outbound\"\nallow = [\"25/tcp\"]\negress = [\"!tunnel\"]\n\
        [[host.bench.rule]]\nname = \"shut\"\ndirection = \"outbound\"\ndeny = [\"26/tcp\"]\negress = [\"!tunnel\"]\n\
        [[host.bench.rule]]\nname = \"rest\"\ndirection = \"outbound\"\nallow = [\"26/tcp\"]\n";
    let hardware = "52:54:00:12:34:56".parse().ok();
    let link = |name: &str| LinkSeen {
        name: name.into(),
        hardware,
        permanent: hardware,
        ..LinkSeen::default()
    };
    let part = |name: &str, is_one_link| {
        let whole = Some(Whole { name: "whole".into(), is_one_link });
        LinkSeen { part_of: whole, ..link(name) }
    };
    // For each interface: whether mail leaves, and whether what is shut does.
    let fates = |links: &[LinkSeen]| {
        let mut plan = resolve(&policy(text), "bench", NOW).expect("the host");
        plan.place(links);
        ["a", "b", "whole"].map(|name| {
            [25, 26].map(|port| {
                let mut packet = packet("192.0.2.1", "203.0.113.5", tcp(port));
                (packet.direction, packet.out_interface) = (Direction::Outbound, Some(name.into()));
                let fate = plan.evaluate(&packet).verdict;
                assert_eq!(lower(&plan).evaluate(&packet).expect("decided").verdict, fate);
                fate == Verdict::Allow
            })
        })
    };
    // None has it: all are others.
    assert_eq!(fates(&[]), [[true, false]; 3]);
    assert_eq!(fates(&[link("a")]), [[false, true], [true, false], [true, false]]);
    // Nobody knows which it is: what lets out lets nothing out, what shuts is for all.
    assert_eq!(fates(&[link("a"), link("b")]), [[false, false]; 3]);
    assert_eq!(fates(&[part("a", true)]), [[true, false], [true, false], [false, true]]);
    // Others go out by the whole, too.
    assert_eq!(fates(&[part("a", false)]), [[true, false], [true, false], [false, false]]);
}

/// The draft of a laptop whose tunnel has these far ends.
fn drafted(list: &[(&str, &str)]) -> String {
    let link = |name: &str| Link { name: name.into(), addresses: Vec::new(), lent: true };
    let endpoints = list.iter().map(|(it, term)| (address(it), (*term).into()));
    draft(&Facts {
        host: "bench".into(),
        links: vec![link("eth0"), link("wlan0")],
        tunnel: Some(Tunnel { link: "tun0".into(), endpoints: endpoints.collect() }),
        ..Facts::default()
    })
}

#[test]
fn a_posture_for_a_tunnel_reads_like_this() {
    let one = drafted(&[("198.51.100.99", "51820/udp")]);
    insta::assert_snapshot!(one.split_once("\n# Nothing").expect("a posture").1, @r#"
     leaves but through tun0: `tipstaff posture take sealed` takes this, `tipstaff posture
    # leave` leaves it, and `tipstaff review` proves it for every packet. Connections that stand go
    # on only through the tunnel, too. What asks for an address and looks for neighbours on the link
    # goes out as it is.
    [host.bench.posture.sealed]
    why = "Only the tunnel"
    instead = true

    [host.bench.posture.sealed.default]
    inbound = "deny"
    outbound = "deny"
    forwarded = "deny"

    [host.bench.posture.sealed.baseline]
    outbound-replies = false
    forwarded-replies = false

    [[host.bench.posture.sealed.rule]]
    name = "tunnel-endpoint"
    direction = "outbound"
    allow = ["51820/udp"]
    to = ["198.51.100.99"]
    egress = ["!tun0"]
    why = "The tunnel itself"

    [[host.bench.posture.sealed.rule]]
    name = "tunnel-answers"
    direction = "inbound"
    allow = ["51820/udp"]
    from = ["198.51.100.99"]
    ingress = ["!tun0"]
    why = "What the far end begins"

    [[host.bench.posture.sealed.rule]]
    name = "through-tunnel"
    direction = "outbound"
    allow = ["any"]
    egress = ["tun0"]

    [[host.bench.expect]]
    posture = "sealed"
    direction = "outbound"
    traffic = ["any"]
    to = ["!198.51.100.99"]
    egress = ["!tun0"]
    every-packet = true
    besides = ["dhcp", "neighbours"]
    verdict = "deny"

    [[host.bench.expect]]
    posture = "sealed"
    direction = "outbound"
    traffic = ["any", "!51820/udp"]
    to = ["198.51.100.99"]
    egress = ["!tun0"]
    every-packet = true
    besides = ["dhcp", "neighbours"]
    verdict = "deny"

    [[host.bench.expect]]
    posture = "sealed"
    direction = "forwarded"
    traffic = ["any"]
    egress = ["!tun0"]
    every-packet = true
    verdict = "deny"
    "#);
}

/// The policy of the demo's laptop, and what `draft` writes for one: nothing leaks, whatever the far ends are.
#[test]
fn a_drafted_tunnel_does_not_leak() {
    let one = drafted(&[("198.51.100.99", "51820/udp")]);
    let several = [
        ("198.51.100.99", "51820/udp"),
        ("198.51.100.99", "443/tcp"),
        ("2001:db8:51::99", "51820/udp"),
    ];
    let travelling = include_str!("../../../../demo/travelling.toml");
    for text in [&one, &drafted(&several), travelling] {
        let policy = policy(text);
        let within = policy.in_posture("bench", "sealed").expect("a posture");
        let plan = resolve(&within, "bench", NOW).expect("the host");
        assert!(within.hosts[0].expected().count() >= 3, "{text}");
        assert!(failing(&plan, within.hosts[0].expected()).is_empty(), "{text}");
        // Without what keeps them, they fail.
        for (kept, otherwise) in [
            ("outbound-replies = false", "outbound-replies = true"),
            ("forwarded-replies = false", "forwarded-replies = true"),
            ("egress = [\"tun", "ingress = []\n#"),
        ] {
            let open = text.replacen(kept, otherwise, 1).replace("ingress = []\n", "");
            assert_ne!(&open, text);
            let policy = self::policy(&open);
            let within = policy.in_posture("bench", "sealed").expect("a posture");
            let plan = resolve(&within, "bench", NOW).expect("the host");
            assert!(!failing(&plan, within.hosts[0].expected()).is_empty(), "{open}");
        }
    }
}
