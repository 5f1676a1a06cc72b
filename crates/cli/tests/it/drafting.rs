//! `draft` on machines where something listens and somebody is connected.

use crate::harness::Desk;
use std::io::Write;
use std::net::{SocketAddr, TcpListener, UdpSocket};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::sockets::PortProtocol;

#[test]
fn a_draft_keeps_who_is_connected_passes_review_and_opens_nothing_else() {
    sealed("drafting::a_draft_keeps_who_is_connected_passes_review_and_opens_nothing_else", || {
        let lab = street_sluice_granary();
        let node = |name| lab.node(name).expect("there");
        let (street, sluice, granary) = (node("street"), node("sluice"), node("granary"));
        let desk = Desk::with("");
        let sockets = sluice
            .run(|| {
                let web = TcpListener::bind("[::]:443").expect("bound");
                let metrics = TcpListener::bind("0.0.0.0:9100").expect("bound");
                let inner = TcpListener::bind("127.0.0.1:5432").expect("bound");
                let names = UdpSocket::bind("0.0.0.0:5353").expect("bound");
                (web, metrics, inner, names)
            })
            .expect("entered");
        let connect = |to: &str| std::net::TcpStream::connect(to).expect("connected");
        let caller = street.run(|| connect("[2001:db8:2::10]:443")).expect("entered");
        let reader = granary.run(|| connect("10.44.8.10:9100")).expect("entered");
        // Flows are tracked once something asks for it.
        desk.write(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                    [[host.sluice.rule]]\nname = \"all\"\nallow = [\"any\"]\n",
        );
        desk.on(sluice, ["enforce", "--keep"]).exits(0);
        street
            .run(|| {
                let socket = UdpSocket::bind("203.0.113.9:0").expect("bound");
                socket.send_to(b"names?", "192.0.2.10:5353").expect("sent");
            })
            .expect("entered");
        (&caller).write_all(b"still here").expect("sent");

        let drafted = desk.on(sluice, ["draft", "--host", "sluice"]).exits(0).stdout;
        desk.write(&drafted);
        let review = desk.on(sluice, ["review", "--live"]);
        assert!(matches!(review.code, 0), "{}\n{drafted}", review.stdout);
        desk.on(sluice, ["enforce", "--keep"]).exits(0);

        let meets = |node: &tipstaff_linux::lab::Node, protocol, source: &str, to: &str| {
            let attempt_it = Attempt {
                protocol,
                source: Some(source.parse().expect("an address")),
                destination: to.parse::<SocketAddr>().expect("an address"),
                patience: std::time::Duration::from_millis(300),
            };
            node.run(|| attempt(&attempt_it)).expect("entered").expect("sent").state
        };
        let tcp = PortProtocol::Tcp;
        // Who was connected can connect again, and lives on.
        (&caller).write_all(b"and now").expect("sent");
        assert_eq!(meets(street, tcp, "2001:db8:2::1", "[2001:db8:2::10]:443"), State::Open);
        assert_eq!(meets(granary, tcp, "10.44.8.20", "10.44.8.10:9100"), State::Open);
        // Others cannot, and the other way round neither.
        assert_eq!(meets(street, tcp, "2001:db8:bad::9", "[2001:db8:2::10]:443"), State::Silent);
        assert_eq!(meets(street, tcp, "192.0.2.1", "192.0.2.10:443"), State::Silent);
        assert_eq!(meets(street, tcp, "192.0.2.1", "192.0.2.10:9100"), State::Silent);
        let rehearsed = desk.run(["rehearse", "--format", "json"]).exits(0).json();
        let rows = rehearsed["rows"].as_array().expect("a list").iter();
        // From certain ports come answers to DHCP clients, which the baseline lets in.
        for row in rows.filter(|it| it["source_port"] == 49_152) {
            let open = row["open"].as_str().expect("a text");
            let known = match row["source"].as_str().expect("a text") {
                "2001:db8:2::1" => "443/tcp",
                "10.44.8.20" => "9100/tcp",
                "203.0.113.9" => "5353/udp",
                _ => "",
            };
            let ports = open.split(", ").filter(|it| it.contains("/"));
            assert_eq!(ports.collect::<Vec<_>>().join(", "), known, "{row:#}");
        }
        // The machine passes packets on, and goes on doing so.
        assert!(drafted.contains("forwarded = \"allow\""), "{drafted}");
        drop((sockets, reader));
    });
}

/// The far end is whom the machine speaks to by another way than all else; or it is named.
#[test]
fn a_tunnel_is_drafted_from_the_machines_routes() {
    use tipstaff_linux::lab::changing::{Way, gain, make, route};
    sealed("drafting::a_tunnel_is_drafted_from_the_machines_routes", || {
        let lab = street_sluice_granary();
        let (street, sluice) = (lab.node("street").expect("it"), lab.node("sluice").expect("it"));
        let desk = Desk::with("");
        let unknown = desk.on(sluice, ["draft", "--tunnel", "tun0"]);
        assert_eq!(unknown.code, 2, "{}", unknown.stderr);
        assert!(unknown.stderr.contains("--endpoint 198.51.100.99"), "{}", unknown.stderr);
        let named = [
            "draft",
            "--host",
            "bench",
            "--tunnel",
            "tun0",
            "--endpoint",
            "198.51.100.99",
            "51820/udp",
        ];
        desk.write(desk.on(sluice, named).exits(0).stdout);
        desk.run(["review"]).exits(0);
        let told = desk.run(["expect", "list", "--format", "json"]).exits(0).json();
        let first = &told["expectations"][0];
        assert_eq!((&first["egress"][0], &first["holds"]), (&"!tun0".into(), &true.into()));
        assert_eq!(
            (&first["every_packet"], &first["besides"][1]),
            (&true.into(), &"neighbours".into())
        );

        // Something that has the role of a tunnel: all goes by it, but for its own far end.
        let server = street.run(|| UdpSocket::bind("198.51.100.7:51820").expect("bound"));
        let _server = server.expect("entered");
        let speaks = sluice.run(|| {
            make("tun0", "tun0-far");
            gain("tun0", "10.99.0.1".parse().expect("it"), 24);
            let far = "10.99.0.99".parse().expect("it");
            for half in ["0.0.0.0", "128.0.0.0"] {
                route(half.parse().expect("it"), 1, &Way::Gateway(far));
            }
            let gateway = "192.0.2.1".parse().expect("it");
            route("198.51.100.7".parse().expect("it"), 32, &Way::Gateway(gateway));
            let socket = UdpSocket::bind("0.0.0.0:0").expect("bound");
            socket.connect("198.51.100.7:51820").expect("connected");
            // What is next to it goes by the same way, too.
            route("198.51.100.6".parse().expect("it"), 32, &Way::Gateway(gateway));
            socket
        });
        let _speaks = speaks.expect("entered");
        let found =
            desk.on(sluice, ["draft", "--host", "bench", "--tunnel", "tun0"]).exits(0).stdout;
        for part in ["to = [\"198.51.100.7\"]", "allow = [\"51820/udp\"]", "egress = [\"!tun0\"]"] {
            assert!(found.contains(part), "{part}: {found}");
        }
        desk.write(found);
        desk.run(["review"]).exits(0);
        for (words, told) in [
            (&["--tunnel", "tun 0"][..], "cannot name an interface"),
            (&["--tunnel", "tun0", "--endpoint", "far", "1/udp"], "is no address"),
            (&["--tunnel", "tun0", "--endpoint", "198.51.100.99", "udp"], "udp"),
        ] {
            let refused = desk.on(sluice, ["draft"].iter().chain(words));
            assert_eq!(refused.code, 2, "{}", refused.stderr);
            assert!(refused.stderr.contains(told), "{}", refused.stderr);
        }
    });
}

/// Where all traffic with a far end is the tunnel, nothing with it is left to be denied.
#[test]
fn a_far_end_can_be_spoken_to_in_whatever_way() {
    let desk = Desk::with("");
    let words = ["draft", "--host", "bench", "--tunnel", "tun0", "--endpoint", "198.51.100.99"];
    let drafted = desk.run(words.iter().chain(&["any"])).exits(0).stdout;
    assert!(drafted.contains("allow = [\"any\"]\nto = [\"198.51.100.99\"]"), "{drafted}");
    desk.write(drafted);
    desk.run(["review"]).exits(0);
    let told = desk.run(["expect", "list", "--format", "json"]).exits(0).json();
    let expectations = told["expectations"].as_array().expect("a list");
    assert!(
        !expectations.is_empty() && expectations.iter().all(|it| it["holds"] == true),
        "{told}"
    );
    let elsewhere = ["--traffic", "443/tcp", "--to", "198.51.100.98", "--egress", "eth0"];
    let asked = desk
        .run(["ask", "--posture", "sealed", "--direction", "outbound"].iter().chain(&elsewhere));
    assert!(asked.exits(0).stdout.contains("deny"));
}
