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
