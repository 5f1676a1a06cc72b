//! Nobody shuts themselves out, or somebody else, without knowing; and nobody is held up wrongly.

use crate::harness::{Desk, Outcome, finish};
use std::fs;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::process::{Child, Command, Stdio};
use std::time::Duration;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

/// A connection to the shell's port, and a process that stands for who logged in over it.
struct Login {
    _client: TcpStream,
    _server: TcpStream,
    words: String,
    shell: Child,
}

impl Drop for Login {
    fn drop(&mut self) {
        let _ = self.shell.kill();
        let _ = self.shell.wait();
    }
}

struct World {
    desk: Desk,
    lab: Lab,
}

impl World {
    fn new() -> Self {
        Self { desk: Desk::with(""), lab: street_sluice_granary() }
    }

    fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    /// Somebody logs in from an address that the street speaks for.
    fn login(&self, from: &str, to: &str, port: u16) -> Login {
        let server: SocketAddr = format!("{to}:{port}").parse().expect("an address");
        let any = if server.is_ipv4() { "0.0.0.0" } else { "[::]" };
        let listener = self.sluice().run(|| TcpListener::bind(format!("{any}:{port}")));
        let listener = listener.expect("run").expect("a port");
        let client: SocketAddr = format!("{from}:0").parse().expect("an address");
        let connect = || tipstaff_linux::lab::testing::connect_from(client, server);
        let client = self.lab.node("street").expect("it").run(connect).expect("run");
        let client = client.expect("connected");
        let (server, peer) = listener.accept().expect("accepted");
        let own = server.local_addr().expect("an address");
        let words = format!(
            "{} {} {} {}",
            peer.ip().to_canonical(),
            peer.port(),
            own.ip().to_canonical(),
            own.port()
        );
        let mut shell = Command::new("/bin/sleep");
        shell.arg("600").env_clear().env("SSH_CONNECTION", &words).stdin(Stdio::null());
        let shell = shell.spawn().expect("it starts");
        Login { _client: client, _server: server, words, shell }
    }

    /// Run from a login's session, or from the console.
    fn run(&self, session: Option<&str>, args: &[&str]) -> Outcome {
        let mut command = self.desk.command(["--host", "sluice"].iter().chain(args));
        if let Some(words) = session {
            command.env("SSH_CONNECTION", words);
        }
        self.sluice().start_here(&mut command).expect("it can start there");
        finish(command)
    }

    fn policy(&self, rest: &str) {
        self.desk.write(format!(
            "edition = 1\n[place.curators]\naddresses = [\"198.51.100.0/27\", \"2001:db8:51::/64\"]\n\
             [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n{rest}"
        ));
    }

    #[track_caller]
    fn refuses(&self, session: Option<&str>, words: &str) {
        let refused = self.run(session, &["enforce", "--keep"]).exits(1);
        assert!(refused.stderr.contains(words), "{}", refused.stderr);
        assert!(refused.stderr.contains("--even-if-locked-out"), "{}", refused.stderr);
        let status = self.run(None, &["--format", "json", "status"]).exits(1).json();
        assert_eq!(status["in_force"], false, "nothing was changed");
    }
}

const FOR_CURATORS: &str =
    "[[host.sluice.rule]]\nname = \"shell\"\nallow = [\"2202/tcp\"]\nfrom = [\"curators\"]\n";

#[test]
fn a_session_that_could_not_be_opened_again_stops_it() {
    sealed("guarding::a_session_that_could_not_be_opened_again_stops_it", || {
        let world = World::new();
        world.policy(FOR_CURATORS);
        let stranger = world.login("203.0.113.9", "192.0.2.10", 2202);
        let own = Some(stranger.words.as_str());
        world.refuses(own, "this would lock you out: your session, from 203.0.113.9 to 2202/tcp");
        world.refuses(own, "`default/inbound` decides deny");
        world.refuses(own, "rule add shell --allow 2202/tcp --from 203.0.113.9 --first");
        // From the console, and although nothing was ever enforced here: it is known all the same.
        world.refuses(None, "this would lock somebody out");
        // A parent's session counts when a privilege switch has cleared the environment.
        let program = env!("CARGO_BIN_EXE_tipstaff");
        let inner =
            format!("unset SSH_CONNECTION; '{program}' --host sluice enforce --keep; exit $?");
        let mut command = Command::new("/bin/sh");
        let plain = world.desk.command(["show"]);
        command.args(["-c", &inner]).current_dir(world.desk.path());
        command.envs(plain.get_envs().filter_map(|(key, value)| Some((key, value?))));
        command.env("SSH_CONNECTION", &stranger.words);
        world.sluice().start_here(&mut command).expect("it can start there");
        finish(command).exits(1);
        // Overruled, and that is written down.
        world.run(own, &["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        let list = world.run(None, &["--format", "json", "docket"]).exits(0).json();
        assert_eq!(list["entries"][0]["despite"], serde_json::json!(["locked-out"]));
    });
}

#[test]
fn a_session_that_has_ended_holds_nobody_up() {
    sealed("guarding::a_session_that_has_ended_holds_nobody_up", || {
        let world = World::new();
        world.policy(FOR_CURATORS);
        let words = world.login("203.0.113.9", "192.0.2.10", 2202).words.clone();
        // Somebody is connected to the port, and has not logged in.
        let listener = world.sluice().run(|| TcpListener::bind("0.0.0.0:2202"));
        let listener = listener.expect("run").expect("a port");
        let street = world.lab.node("street").expect("it");
        let client = || {
            tipstaff_linux::lab::testing::connect_from(
                "203.0.113.77:0".parse().expect("an address"),
                "192.0.2.10:2202".parse().expect("an address"),
            )
        };
        let _client = street.run(client).expect("run").expect("connected");
        let _server = listener.accept().expect("accepted");
        // The session was left running in a multiplexer, and somebody came back to it.
        let curator = world.login("198.51.100.7", "192.0.2.10", 2022);
        world.policy(
            "[[host.sluice.rule]]\nname = \"shell\"\nallow = [\"2202/tcp\", \"2022/tcp\"]\n\
             from = [\"curators\"]\n",
        );
        world.run(Some(&words), &["enforce", "--keep"]).exits(0);
        drop(curator);
    });
}

#[test]
fn the_whole_way_there_and_back_is_judged() {
    sealed("guarding::the_whole_way_there_and_back_is_judged", || {
        let world = World::new();
        let v4 = world.login("198.51.100.7", "192.0.2.10", 2202);
        let own = Some(v4.words.as_str());
        // The answers cannot leave.
        world.policy(&format!(
            "[host.sluice.default]\noutbound = \"deny\"\n[host.sluice.baseline]\nreplies = false\n\
             {FOR_CURATORS}"
        ));
        world.refuses(own, "would get no answer");
        // The next login would meet the end of the rate.
        world.policy(&FOR_CURATORS.replace("from", "rate = \"1/hour\"\nfrom"));
        world.refuses(own, "allows 1/hour");
        world
            .policy(&FOR_CURATORS.replace("from", "rate = \"6/minute per source, burst 4\"\nfrom"));
        world.run(own, &["enforce", "--dry-run"]).exits(0);
        // The rule that admits it ends within the hour.
        let soon = Command::new("/bin/date")
            .args(["-u", "-d", "+20 minutes", "+%Y-%m-%dT%H:%M:%SZ"])
            .output()
            .expect("a time");
        let soon = String::from_utf8(soon.stdout).expect("text");
        let until = format!("until = {}\nfrom", soon.trim());
        world.policy(&FOR_CURATORS.replace("from", &until));
        world.refuses(own, "once a rule has ended at");
        // Another program's rule.
        let shell = "shell = [\"2202/tcp\"]\n";
        let program = FOR_CURATORS.replace("from", "program = \"/usr/sbin/catalogued\"\nfrom");
        world.policy(&format!("{shell}{program}"));
        let refused = world.run(own, &["enforce", "--dry-run"]);
        assert_ne!(refused.code, 0, "{}", refused.stdout);
    });
}

#[test]
fn over_ipv6_the_neighbour_has_to_be_found_and_zones_are_understood() {
    sealed("guarding::over_ipv6_the_neighbour_has_to_be_found_and_zones_are_understood", || {
        let world = World::new();
        let v6 = world.login("[2001:db8:51::7]", "[2001:db8:2::10]", 2202);
        let own = Some(v6.words.as_str());
        world.policy(&format!("[host.sluice.baseline]\nneighbours = false\n{FOR_CURATORS}"));
        world.refuses(own, "would not find the way over the link");
        // An address of the link has the link's name behind it; it is judged like any other.
        let street = world.lab.node("street").expect("it");
        let of_link = |node: &Node| {
            let text = node.run(|| fs::read_to_string("/proc/thread-self/net/if_inet6"));
            let text = text.expect("run").expect("addresses");
            // A machine has one for each of its links, in no order.
            let mut lines = text.lines().filter(|it| it.starts_with("fe80"));
            let line = lines.find(|it| it.ends_with(" eth0")).expect("one of the link");
            let digits = line.split(' ').next().expect("digits");
            let groups: Vec<&str> = (0..8).map(|at| &digits[at * 4..at * 4 + 4]).collect();
            let address = groups.join(":").parse::<std::net::Ipv6Addr>().expect("an address");
            let index = line.split(' ').nth(1).expect("the link's number");
            (address, u32::from_str_radix(index, 16).expect("a number"))
        };
        let ((client, index), (server, _)) = (of_link(street), of_link(world.sluice()));
        let listener = world.sluice().run(|| TcpListener::bind("[::]:2022")).expect("run");
        let listener = listener.expect("a port");
        let scoped = std::net::SocketAddrV6::new(server, 2022, 0, index);
        let connect = || TcpStream::connect_timeout(&scoped.into(), Duration::from_secs(5));
        // The link's addresses answer only when the kernel has seen that nobody else has them.
        let mut tries = (0..100).map(|_| street.run(connect).expect("run"));
        let stream = tries.find_map(|tried| {
            tried.map_err(|_| std::thread::sleep(Duration::from_millis(100))).ok()
        });
        let stream = stream.expect("the link's addresses can be connected to");
        let _accepted = listener.accept().expect("accepted");
        let port = stream.local_addr().expect("an address").port();
        let words = format!("{client}%eth0 {port} {server}%eth0 2022");
        world.policy(FOR_CURATORS);
        world.refuses(Some(&words), "this would lock you out");
        world.policy(&format!(
            "{FOR_CURATORS}[[host.sluice.rule]]\nname = \"link\"\nallow = [\"2022/tcp\"]\n\
             from = [\"fe80::/10\"]\n"
        ));
        world.run(Some(&words), &["enforce", "--keep"]).exits(0);
    });
}

#[test]
fn another_machines_policy_is_refused() {
    sealed("guarding::another_machines_policy_is_refused", || {
        let world = World::new();
        world.policy(FOR_CURATORS);
        let text = fs::read_to_string(world.desk.path().join("policy.toml")).expect("it");
        world.desk.write(
            text.replace("\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"", "\"10.44.8.20\""),
        );
        let refused = world.run(None, &["enforce", "--keep"]).exits(1);
        assert!(refused.stderr.contains("`sluice` is another machine"), "{}", refused.stderr);
        assert!(refused.stderr.contains("192.0.2.10"), "{}", refused.stderr);
        world.run(None, &["enforce", "--keep", "--not-this-machine"]).exits(0);
        // Its addresses, but another host's name.
        world.desk.write(text.replace("host.sluice", "host.granary"));
        let run = |args: &[&str]| world.desk.on(world.sluice(), args);
        let refused = run(&["enforce", "--keep"]).exits(1);
        let words = "`granary` is another host than `sluice`, whose rules were confirmed here last";
        assert!(refused.stderr.contains(words), "{}", refused.stderr);
        let list = world.run(None, &["--format", "json", "docket"]).exits(0).json();
        assert_eq!(list["entries"][0]["despite"], serde_json::json!(["not-this-machine"]));
    });
}

#[test]
fn a_shell_that_nobody_reaches_gives_way_to_a_word() {
    sealed("guarding::a_shell_that_nobody_reaches_gives_way_to_a_word", || {
        let world = World::new();
        world.policy("shell = [\"2022/tcp\"]\n");
        let refused = world.run(None, &["enforce", "--keep"]).exits(1);
        assert!(refused.stderr.contains("shell-lockout"), "{}", refused.stderr);
        world.run(None, &["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        let list = world.run(None, &["--format", "json", "docket"]).exits(0).json();
        assert_eq!(list["entries"][0]["despite"], serde_json::json!(["locked-out"]));
    });
}

#[test]
fn nobody_is_shut_out_by_a_list() {
    sealed("guarding::nobody_is_shut_out_by_a_list", || {
        let world = World::new();
        world.policy(
            "[[host.sluice.rule]]\nname = \"not-them\"\ndeny = [\"any\"]\nfrom = [\"nuisance\"]\n\
             [[host.sluice.rule]]\nname = \"shell\"\nallow = [\"2202/tcp\"]\n\
             [place.nuisance]\nfile = \"nuisance.txt\"\n",
        );
        let curator = world.login("198.51.100.7", "192.0.2.10", 2202);
        let refresh = |words: &[&str], code| {
            let all: Vec<&str> = ["place", "refresh"].iter().chain(words).copied().collect();
            world.run(Some(&curator.words), &all).exits(code).stdout
        };
        let wrong = "203.0.113.9\n198.51.100.0/24\n";
        // Neither where rules are in force, nor where they are yet to be.
        world.desk.put("nuisance.txt", wrong);
        let told = refresh(&[], 1);
        assert!(told.contains("would lock you out") && told.contains("198.51.100.7"), "{told}");
        assert_eq!(world.desk.snapshot("nuisance"), None);
        world.desk.put("nuisance.txt", "203.0.113.9\n");
        refresh(&[], 0);
        world.run(None, &["enforce", "--keep"]).exits(0);
        let before = world.desk.snapshot("nuisance");
        world.desk.put("nuisance.txt", wrong);
        let told = refresh(&[], 1);
        assert!(told.contains("would lock you out") && told.contains("not-them"), "{told}");
        assert_eq!(world.desk.snapshot("nuisance"), before);
        // By the timer, nobody's session asks; it is somebody's all the same.
        let told = world.run(None, &["place", "refresh"]).exits(1).stdout;
        assert!(told.contains("would lock somebody out"), "{told}");
        world.run(None, &["status"]).exits(0);
        refresh(&["--even-if-locked-out"], 0);
        assert_ne!(world.desk.snapshot("nuisance"), before);
    });
}
