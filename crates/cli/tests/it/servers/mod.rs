//! Real servers and clients of others: OpenSSH, nginx, curl, ping, a journal, a log server.

mod feeds;
mod logs;
mod tools;

use crate::harness::Desk;
use std::fs;
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{connect_from, sealed, street_sluice_granary};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::sockets::PortProtocol;
pub use tools::{
    Server, curl, make_key, nginx, output, sshd, start, start_at, start_sshd, tools,
    tools_to_log_in,
};
pub use tools::{find, needed};

const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[place.strangers]
addresses = ["203.0.113.0/24", "2001:db8:bad::/64"]
[host.sluice]
addresses = ["192.0.2.10", "2001:db8:2::10", "10.44.8.10", "fd44:8::10"]
[host.sluice.baseline]
ping = "allow"
[[host.sluice.rule]]
name = "shell"
allow = ["2202/tcp"]
from = ["curators"]
[[host.sluice.rule]]
name = "catalogue"
allow = ["80/tcp", "7/udp"]
[[host.sluice.rule]]
name = "old-catalogue"
reject = ["8080/tcp", "9/udp"]
[[host.sluice.rule]]
name = "granary-for-curators"
allow = ["80/tcp", "icmp"]
direction = "forwarded"
from = ["curators"]
to = ["10.44.8.20", "fd44:8::20"]
[[host.sluice.rule]]
name = "granary-refused"
reject = ["8080/tcp", "icmp"]
direction = "forwarded"
to = ["10.44.8.20", "fd44:8::20"]
[[host.sluice.rule]]
name = "not-there"
deny = ["8080/tcp"]
direction = "outbound"
to = ["10.44.8.20", "fd44:8::20"]
[[host.sluice.rule]]
name = "not-there-either"
reject = ["icmp"]
direction = "outbound"
to = ["10.44.8.20", "fd44:8::20"]
"#;

const CURATOR: [&str; 2] = ["198.51.100.7", "2001:db8:51::7"];
const STRANGER: [&str; 2] = ["203.0.113.9", "2001:db8:bad::9"];
const SLUICE: [&str; 2] = ["192.0.2.10", "2001:db8:2::10"];
const GRANARY: [&str; 2] = ["10.44.8.20", "fd44:8::20"];
const SLUICE_INSIDE: [&str; 2] = ["10.44.8.10", "fd44:8::10"];

const OPEN: Option<i32> = Some(0);
const REFUSED: Option<i32> = Some(7);
const SILENT: Option<i32> = Some(28);
// The exit code tells refusal from silence; this tells it from what a busy machine takes.
const AT_ONCE: Duration = Duration::from_secs(3);

#[track_caller]
fn meets(what: (Option<i32>, Duration), expected: Option<i32>) {
    assert_eq!(what.0, expected);
    if expected == REFUSED {
        assert!(what.1 < AT_ONCE, "refused only after {:?}", what.1);
    }
}

fn ping(node: &Node, program: &Path, from: &str, to: &str) -> (bool, String) {
    let output = output(node, program, &["-n", "-c", "1", "-W", "1", "-I", from, to]);
    (output.status.success(), String::from_utf8_lossy(&output.stdout).into_owned())
}

/// Whether the remote shell of a host speaks to somebody.
fn greeted(street: &Node, ssh: &Path, from: &str, host: &str) -> bool {
    let bind = format!("BindAddress={from}");
    let args = [
        "-v",
        "-F",
        "/dev/null",
        "-p",
        "2202",
        "-o",
        &bind,
        "-o",
        "ConnectTimeout=1",
        "-o",
        "BatchMode=yes",
        "-o",
        "StrictHostKeyChecking=no",
        "-o",
        "UserKnownHostsFile=/dev/null",
        host,
        "true",
    ];
    let output = output(street, ssh, &args);
    String::from_utf8_lossy(&output.stderr).contains("remote software version OpenSSH")
}

#[test]
fn an_enforced_policy_holds_against_programs_of_others() {
    let Some(tools) = tools() else { return };
    sealed("servers::an_enforced_policy_holds_against_programs_of_others", || {
        let [sshd_program, ssh, keygen, nginx_program, curl_program, ping_program] = &tools;
        let lab = street_sluice_granary();
        let node = |name| lab.node(name).expect("there");
        let (street, sluice, granary) = (node("street"), node("sluice"), node("granary"));
        let desk = Desk::with(POLICY);
        let _servers = [
            nginx(sluice, nginx_program, &desk.path().join("sluice")),
            nginx(granary, nginx_program, &desk.path().join("granary")),
            sshd(sluice, sshd_program, keygen, desk.path()),
            start(sluice, desk.command(["stand-in", "udp:7", "udp:9", "udp:10"])),
        ];
        let curl = |from, to, port| curl(street, curl_program, from, to, port);
        let deadline = Instant::now() + Duration::from_secs(10);
        while curl(STRANGER[0], SLUICE[0], 9100).0 != OPEN
            || curl(STRANGER[0], GRANARY[0], 9100).0 != OPEN
        {
            assert!(Instant::now() < deadline, "the web servers did not come up");
            std::thread::sleep(Duration::from_millis(20));
        }
        desk.on(sluice, ["enforce", "--keep"]).exits(0);

        for version in 0..2 {
            let (curator, stranger) = (CURATOR[version], STRANGER[version]);
            let (host, store) = (SLUICE[version], GRANARY[version]);
            // Inbound, TCP.
            meets(curl(stranger, host, 80), OPEN);
            meets(curl(stranger, host, 8080), REFUSED);
            meets(curl(stranger, host, 9100), SILENT);
            let greeted = |from| greeted(street, ssh, from, host);
            assert!(greeted(curator), "the shell is not open to {curator}");
            assert!(!greeted(stranger), "the shell is open to {stranger}");
            // Inbound, UDP and ICMP.
            let datagram = |port: u16| {
                let destination = SocketAddr::new(host.parse().expect("it"), port);
                let check = Attempt {
                    protocol: PortProtocol::Udp,
                    source: Some(stranger.parse().expect("an address")),
                    destination,
                    patience: Duration::from_millis(500),
                };
                street.run(|| attempt(&check)).expect("entered").expect("sent").state
            };
            assert_eq!([7, 9, 10].map(datagram), [State::Open, State::Prohibited, State::Silent]);
            assert!(ping(street, ping_program, stranger, host).0);
            // Forwarded.
            meets(curl(curator, store, 80), OPEN);
            meets(curl(stranger, store, 80), SILENT);
            meets(curl(curator, store, 8080), REFUSED);
            assert!(ping(street, ping_program, curator, store).0);
            let (answered, text) = ping(street, ping_program, stranger, store);
            assert!(!answered && text.contains("rohibited") || text.contains("filtered"), "{text}");
            // Outbound.
            let inside = SLUICE_INSIDE[version];
            let out = |port| super::servers::curl(sluice, curl_program, inside, store, port);
            meets(out(80), OPEN);
            meets(out(8080), SILENT);
            assert!(!ping(sluice, ping_program, inside, store).0);
        }
        // With pings denied, they meet silence.
        desk.write(POLICY.replace("ping = \"allow\"", "ping = \"deny\""));
        desk.on(sluice, ["enforce", "--keep"]).exits(0);
        for version in 0..2 {
            assert!(!ping(street, ping_program, STRANGER[version], SLUICE[version]).0);
        }
        desk.on(sluice, ["release", "--keep"]).exits(0);
        meets(curl(STRANGER[0], SLUICE[0], 9100), OPEN);
    });
}

/// What a remote shell of sluice's says, over a session of its own.
fn over_ssh(node: &Node, ssh: &Path, folder: &Path, script: &str) -> Command {
    let mut command = Command::new(ssh);
    command
        .args(["-F", "none", "-p", "2202", "-b", CURATOR[0], "-l", "root"])
        .args(["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"])
        .args(["-o", "BatchMode=yes", "-o", "LogLevel=ERROR", "-o", "ConnectTimeout=5", "-i"])
        .arg(folder.join("host_key"))
        .args([SLUICE[0], script])
        .env("LC_ALL", "C")
        .stdin(Stdio::null());
    node.start_here(&mut command).expect("it can start there");
    command
}

#[test]
fn a_session_cannot_shut_itself_out_for_good() {
    let Some(tools) = tools_to_log_in() else { return };
    sealed("servers::a_session_cannot_shut_itself_out_for_good", || {
        let [sshd_program, ssh, keygen, ..] = &tools;
        let desk = Desk::with(POLICY);
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let _server = sshd(sluice, sshd_program, keygen, desk.path());
        desk.on(sluice, ["enforce", "--keep"]).exits(0);
        // A policy that forgets the shell.
        fs::write(desk.path().join("cut.toml"), POLICY.replace("2202/tcp", "22/tcp"))
            .expect("written");
        let tipstaff = format!(
            "cd {}; PATH=/usr/bin:/bin; export TIPSTAFF_STATE={} TIPSTAFF_BOOT_NOTE={} \
             TIPSTAFF_POLICY=cut.toml; t={}",
            desk.path().display(),
            desk.state().display(),
            desk.note().display(),
            env!("CARGO_BIN_EXE_tipstaff")
        );
        let script = format!(
            "{tipstaff}; $t enforce --keep; echo \"refused: $?\"; \
             $t enforce --even-if-locked-out --confirm-within 3; echo \"forced: $?\"; \
             $t status >/dev/null; echo \"in force: $?\"; sleep 6; \
             $t status >/dev/null; echo \"gone back: $?\"; $t docket"
        );
        let mut session = over_ssh(street, ssh, desk.path(), &script);
        let session = session.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn();
        let session = session.expect("it starts");
        let opens = || {
            let attempt = Attempt {
                protocol: PortProtocol::Tcp,
                source: Some(CURATOR[0].parse().expect("an address")),
                destination: format!("{}:2202", SLUICE[0]).parse().expect("an address"),
                patience: Duration::from_millis(300),
            };
            street.run(|| attempt_state(&attempt)).expect("it can be tried")
        };
        // New sessions are shut out for a while, and then are not.
        let begun = Instant::now();
        while opens() == State::Open {
            assert!(begun.elapsed() < Duration::from_secs(60), "it was never enforced");
            std::thread::sleep(Duration::from_millis(50));
        }
        let shut = Instant::now();
        while opens() != State::Open {
            assert!(shut.elapsed() < Duration::from_secs(8), "it did not go back in time");
        }
        let output = session.wait_with_output().expect("it ends");
        let said = String::from_utf8_lossy(&output.stdout);
        let errors = String::from_utf8_lossy(&output.stderr);
        // The session that did it lived on.
        for word in ["refused: 1", "forced: 0", "in force: 0", "gone back: 1", "went back"] {
            assert!(said.contains(word), "{word} is missing:\n{said}\n{errors}");
        }
        assert!(errors.contains("this would lock you out"), "{errors}");
        assert!(errors.contains("your session, from 198.51.100.7 to 2202/tcp"), "{errors}");
        // By way of a new session, a change is kept.
        let script = format!("{tipstaff}; export TIPSTAFF_POLICY=policy.toml; $t status");
        let status = over_ssh(street, ssh, desk.path(), &script).output().expect("it starts");
        let status = String::from_utf8_lossy(&status.stdout).into_owned();
        assert!(
            status.contains("in force: the kernel's rules mean what the policy says"),
            "{status}"
        );
    });
}

fn attempt_state(what: &Attempt) -> State {
    attempt(what).expect("it can be tried").state
}

#[test]
fn cutting_again_and_again_ends_no_real_server() {
    let Some([sshd_program, _, keygen, nginx_program, curl_program, _]) = tools_to_log_in() else {
        return;
    };
    sealed("servers::cutting_again_and_again_ends_no_real_server", || {
        let desk = Desk::with(POLICY.replace(
            "[[host.sluice.rule]]\nname = \"shell\"",
            "[[host.sluice.rule]]\nname = \"not-they\"\ndeny = [\"any\"]\nfrom = [\"strangers\"]\n\
             [[host.sluice.rule]]\nname = \"shell\"",
        ));
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let mut servers = [
            sshd(sluice, &sshd_program, &keygen, desk.path()),
            nginx(sluice, &nginx_program, &desk.path().join("web")),
        ];
        let open = |from: &str, port: u16| {
            let check = Attempt {
                protocol: PortProtocol::Tcp,
                source: Some(from.parse().expect("an address")),
                destination: format!("192.0.2.10:{port}").parse().expect("an address"),
                patience: Duration::from_millis(500),
            };
            street.run(|| attempt(&check)).expect("run").is_ok_and(|it| it.state == State::Open)
        };
        let begun = Instant::now();
        while !(open(CURATOR[0], 2202) && open(CURATOR[0], 80)) {
            assert!(begun.elapsed() < Duration::from_secs(60), "the servers did not come up");
            std::thread::sleep(Duration::from_millis(20));
        }
        let ends = std::sync::atomic::AtomicBool::new(false);
        std::thread::scope(|scope| {
            // Load by those who are denied and those who are not, over both versions, at both ports.
            for (from, to) in [
                (CURATOR[0], SLUICE[0]),
                (STRANGER[0], SLUICE[0]),
                (CURATOR[1], SLUICE[1]),
                (STRANGER[1], SLUICE[1]),
            ] {
                let (ends, curl_program) = (&ends, &curl_program);
                scope.spawn(move || {
                    while !ends.load(std::sync::atomic::Ordering::Relaxed) {
                        let host = if to.contains(':') { format!("[{to}]") } else { to.to_owned() };
                        let url = format!("http://{host}:80/");
                        let args = ["-s", "--noproxy", "*", "-m", "0.3", "--interface", from, &url];
                        output(street, curl_program, &args);
                        // One that has not logged in, and stays.
                        let from = SocketAddr::new(from.parse().expect("an address"), 0);
                        let to = SocketAddr::new(to.parse().expect("an address"), 2202);
                        let shell = street.run(|| connect_from(from, to)).expect("run");
                        std::thread::sleep(Duration::from_millis(300));
                        drop(shell);
                    }
                });
            }
            let until = Instant::now() + Duration::from_secs(6);
            let mut ended = 0;
            while Instant::now() < until {
                desk.on(sluice, ["release", "--keep"]).exits(0);
                std::thread::sleep(Duration::from_millis(250));
                desk.on(sluice, ["enforce", "--keep"]).exits(0);
                let cut = desk.on(sluice, ["--format", "json", "cut"]).json();
                ended += cut["living"].as_array().map_or(0, Vec::len);
            }
            ends.store(true, std::sync::atomic::Ordering::Relaxed);
            assert!(ended > 0, "nothing was there to be ended");
        });
        for server in &mut servers {
            assert!(server.0.try_wait().expect("asked").is_none(), "it still runs");
        }
        assert!(open(CURATOR[0], 2202) && open(CURATOR[0], 80), "both still listen");
        assert!(!open(STRANGER[0], 80), "and strangers are denied");
    });
}
