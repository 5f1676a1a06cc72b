//! Rules for programs, as administrators meet them: with real programs, on the real kernel.

use crate::harness::{Desk, MENDED, Outcome};
use serde_json::Value;
use std::fs;
use std::io::{BufRead, BufReader};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::{sealed_with_hooks, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::sockets::PortProtocol;

/// A machine, a street, and a folder with programs: each a copy of the program under test, which
/// can also stand in for others.
pub struct World {
    pub lab: Lab,
    pub desk: Desk,
    pub shelf: tempfile::TempDir,
}

impl World {
    pub fn new() -> Self {
        let shelf = tempfile::tempdir().expect("a folder");
        let world = Self { lab: street_sluice_granary(), desk: Desk::with(""), shelf };
        world.program("seedbase");
        world.program("impostor");
        world.desk.write(world.policy());
        world
    }

    fn program(&self, name: &str) -> PathBuf {
        let path = self.shelf.path().join(name);
        fs::copy(env!("CARGO_BIN_EXE_tipstaff"), &path).expect("copied");
        path
    }

    fn policy(&self) -> String {
        format!(
            "edition = 1\n\n[place.curators]\naddresses = [\"198.51.100.0/27\"]\n\n[host.sluice]\n\
             addresses = [\"192.0.2.10/24\", \"2001:db8:2::10/64\"]\n\n[[host.sluice.rule]]\n\
             name = \"seeds\"\nallow = [\"5432/tcp+udp\"]\nprogram = \"{}/seedbase\"\n",
            self.shelf.path().display()
        )
    }

    pub fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    pub fn run(&self, words: &str) -> Outcome {
        let outcome = self.desk.on(self.sluice(), words.split(' '));
        println!("$ tipstaff {words}\n{}{}", outcome.stdout, outcome.stderr);
        outcome
    }

    pub fn json(&self, words: &str) -> Value {
        self.desk.on(self.sluice(), format!("{words} --format json").split(' ')).json()
    }

    fn serve(&self, name: &str) -> Server {
        let mut command = Command::new(self.shelf.path().join(name));
        command.args(["stand-in", "tcp:5432", "udp:5432"]).env_clear().stdout(Stdio::piped());
        self.sluice().start_here(&mut command).expect("the machine is there");
        let mut process = command.spawn().expect("it starts");
        let mut ready = String::new();
        let output = process.stdout.take().expect("piped");
        BufReader::new(output).read_line(&mut ready).expect("it speaks");
        assert_eq!(ready, "ready\n");
        Server(process)
    }

    /// Whether somebody outside gets an answer; no is said after a quarter of a second.
    pub fn reaches(&self, protocol: PortProtocol) -> bool {
        self.within(protocol, Duration::from_millis(250))
    }

    /// Somebody outside gets an answer to the one packet that is sent, however busy this machine is.
    #[track_caller]
    pub fn is_reached(&self, protocol: PortProtocol, when: impl std::fmt::Display) {
        assert!(self.within(protocol, Duration::from_secs(10)), "over {protocol:?}, {when}");
    }

    fn within(&self, protocol: PortProtocol, patience: Duration) -> bool {
        let street = self.lab.node("street").expect("it");
        let destination = SocketAddr::new(Ipv4Addr::new(192, 0, 2, 10).into(), 5432);
        let check = Attempt { protocol, source: None, destination, patience };
        let seen = street.run(|| attempt(&check)).expect("entered").expect("tried");
        seen.state == State::Open
    }
}

pub struct Server(pub Child);

impl Drop for Server {
    fn drop(&mut self) {
        // A child of this test's own.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// What others meet: the refusal, and the way round it.
fn refused() {
    let world = World::new();
    let refused = world.run("enforce --keep").exits(3).stderr;
    assert!(refused.contains("`seeds` names programs, which cannot be told apart"), "{refused}");
    assert!(refused.contains("the right to load programs into the kernel"), "{refused}");
    // Who may not have programs told apart has all other rules as ever.
    world.desk.write(MENDED);
    world.run("--host sluice enforce --keep").exits(0);
    assert_eq!(world.json("--host sluice enforce --keep")["done"], "unchanged");
    world.desk.write(world.policy());
    assert!(world.run("enforce --keep --without-programs").exits(0).stdout.contains("seeds"));
    assert!(world.run("status").exits(0).stdout.contains("--without-programs"));
}

fn with_world(name: &str, body: impl FnOnce(&World)) {
    sealed_with_hooks(&format!("programs::{name}"), || body(&World::new()), refused);
}

#[test]
fn the_whole_course_of_a_rule_for_a_program() {
    with_world("the_whole_course_of_a_rule_for_a_program", |world| {
        let impostor = world.serve("impostor");
        let text = world.run("review --live").exits(1).stdout;
        assert!(text.contains("other-program") && text.contains("/impostor (process"), "{text}");
        world.run("enforce --keep").exits(0);
        assert!(!world.reaches(PortProtocol::Tcp) && !world.reaches(PortProtocol::Udp));
        let reach = world.json("reach");
        let of = |it: &Value| it["from"][0]["policy"].clone();
        assert_eq!(of(&reach["listeners"][0]), "deny", "{reach:#}");
        drop(impostor);

        let server = world.serve("seedbase");
        world.is_reached(PortProtocol::Tcp, "named");
        world.is_reached(PortProtocol::Udp, "named");
        let text = world.run("reach").exits(0).stdout;
        assert!(text.contains("allow") && !text.contains("taken for"), "{text}");
        world.run("status").exits(0);
        let programs = world.json("programs");
        assert_eq!(programs["programs"][0]["processes"][0], server.0.id());
        assert_eq!(programs["programs"][0]["recognised"], true);
        // Nothing of ours runs; what was enforced needs no process.
        assert_eq!(world.json("enforce --keep")["done"], "unchanged");

        // Another file in its place, as a package manager puts it there. Whoever looks next sees to it, and the rules
        // count on.
        let replace = || {
            let new = world.program("seedbase.new");
            fs::rename(new, world.shelf.path().join("seedbase")).expect("replaced");
        };
        replace();
        drop(server);
        let server = world.serve("seedbase");
        assert!(!world.reaches(PortProtocol::Tcp));
        let text = world.run("programs").exits(1).stdout;
        assert!(text.contains("is another file than when"), "{text}");
        let counted = world.json("status")["rules"].clone();
        world.is_reached(PortProtocol::Tcp, "named");
        world.is_reached(PortProtocol::Udp, "named");
        replace();
        let text = world.run("status").exits(1).stdout;
        assert!(text.contains("still runs the file that"), "{text}");
        drop(server);
        let server = world.serve("seedbase");
        world.is_reached(PortProtocol::Tcp, "named");
        let taken = |rules: &Value| {
            let rules = rules.as_array().expect("a list").clone();
            rules.into_iter().find(|it| it["name"] == "seeds").expect("it")["packets"].clone()
        };
        let (before, after) = (taken(&counted), taken(&world.json("status")["rules"]));
        assert!(after.as_u64() > before.as_u64(), "{before} {after}");

        // A reboot: nothing of ours is in the kernel, and what runs has started before us.
        world.sluice().run(world_ends).expect("entered");
        world.is_reached(PortProtocol::Tcp, "nothing is enforced");
        world.run("enforce --boot").exits(0);
        world.sluice().run(|| cut(&server)).expect("entered");
        world.is_reached(PortProtocol::Tcp, "named");
        world.is_reached(PortProtocol::Udp, "named");
        drop(server);
        let _impostor = world.serve("impostor");
        assert!(!world.reaches(PortProtocol::Tcp) && !world.reaches(PortProtocol::Udp));

        world.run("release --keep").exits(0);
        world.is_reached(PortProtocol::Tcp, "named");
        world.is_reached(PortProtocol::Udp, "named");
        let ours = fs::read_dir("/sys/fs/bpf").expect("mounted").flatten();
        let ours = ours.filter(|it| it.file_name().to_string_lossy().starts_with("tipstaff"));
        assert_eq!(ours.count(), 0);
    });
}

/// As after a reboot: neither rules nor hooks.
fn world_ends() {
    use tipstaff_linux::{NetlinkSocket, Protocol, programs, ruleset};
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    assert!(ruleset::release(&mut kernel).expect("released"));
    programs::clear().expect("cleared");
}

/// Forgets all connections, so that nothing passes as a part of an old one.
fn cut(_: &Server) {
    use tipstaff_linux::{NetlinkSocket, Protocol, flows};
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    for flow in flows::flows(&mut kernel).expect("read") {
        flows::forget(&mut kernel, &flow).expect("forgotten");
    }
}

#[test]
fn whoever_attends_sees_to_replaced_files_at_once() {
    with_world("whoever_attends_sees_to_replaced_files_at_once", |world| {
        world.run("enforce --keep").exits(0);
        let mut command = world.desk.command(["attend", "--format", "json"]);
        command.stdout(Stdio::piped());
        world.sluice().start_here(&mut command).expect("the machine is there");
        let mut attending = Server(command.spawn().expect("it starts"));
        let mut told = BufReader::new(attending.0.stdout.take().expect("piped")).lines();
        let began = Instant::now();
        while !world.json("status")["attended"].as_bool().expect("known") {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not attend");
        }
        // Not by looking now and then: twice within the time between two looks.
        for _ in 0..2 {
            // What came up with it has been seen to.
            std::thread::sleep(Duration::from_millis(700));
            let new = world.program("seedbase.new");
            let began = Instant::now();
            fs::rename(new, world.shelf.path().join("seedbase")).expect("replaced");
            let line = told.next().expect("it speaks").expect("read");
            println!("{:?} after the file was replaced", began.elapsed());
            let said: Value = serde_json::from_str(&line).expect("JSON");
            assert_eq!((&said["what"], &said["refreshed"]), (&"programs".into(), &true.into()));
            let _server = world.serve("seedbase");
            world.is_reached(PortProtocol::Tcp, "named");
            world.is_reached(PortProtocol::Udp, "named");
        }
    });
}

#[test]
fn an_unconfirmed_change_goes_back_with_its_programs() {
    with_world("an_unconfirmed_change_goes_back_with_its_programs", |world| {
        world.run("enforce --keep").exits(0);
        let _server = world.serve("seedbase");
        world.desk.write(world.policy().replace("/seedbase", "/impostor"));
        world.run("enforce --confirm-within 1").exits(0);
        assert!(!world.reaches(PortProtocol::Udp));
        for _ in 0..100 {
            if world.reaches(PortProtocol::Udp) {
                break;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        world.is_reached(PortProtocol::Udp, "named");
        world.desk.write(world.policy());
        world.run("status").exits(0);
    });
}

#[test]
fn a_kill_at_any_moment_leaves_what_the_next_command_mends() {
    with_world("a_kill_at_any_moment_leaves_what_the_next_command_mends", |world| {
        let _server = world.serve("seedbase");
        let other = world.policy().replace("/seedbase", "/impostor");
        for round in 0..20 {
            world.desk.write(if round % 2 == 0 { other.clone() } else { world.policy() });
            let mut command = world.desk.command(["enforce", "--keep"]);
            command.stdout(Stdio::null()).stderr(Stdio::null());
            world.sluice().start_here(&mut command).expect("the machine is there");
            let mut killed = command.spawn().expect("it starts");
            std::thread::sleep(Duration::from_micros(500 + (round * 37 % 100) * 1_200));
            killed.kill().expect("killed, or done");
            killed.wait().expect("ended");
            world.desk.write(&other);
            world.run("enforce --keep").exits(0);
            assert!(!world.reaches(PortProtocol::Udp), "round {round}");
            world.desk.write(world.policy());
            world.run("enforce --keep").exits(0);
            world.is_reached(PortProtocol::Udp, format_args!("round {round}"));
        }
        // Going away as well.
        for round in 0..10 {
            let mut command = world.desk.command(["release", "--keep"]);
            command.stdout(Stdio::null()).stderr(Stdio::null());
            world.sluice().start_here(&mut command).expect("the machine is there");
            let mut killed = command.spawn().expect("it starts");
            std::thread::sleep(Duration::from_micros(500 + round * 4_000));
            killed.kill().expect("killed, or done");
            killed.wait().expect("ended");
            world.run("enforce --keep").exits(0);
            world.is_reached(PortProtocol::Udp, format_args!("round {round}"));
        }
        world.run("status").exits(0);
    });
}

#[test]
fn whatever_is_left_of_the_hooks_is_made_whole_again() {
    with_world("whatever_is_left_of_the_hooks_is_made_whole_again", |world| {
        let _server = world.serve("seedbase");
        world.run("enforce --keep").exits(0);
        let folder = fs::read_dir("/sys/fs/bpf").expect("a folder").flatten();
        let folder = folder.map(|it| it.path()).find(|it| {
            it.file_name().is_some_and(|name| name.to_string_lossy().starts_with("tipstaff-"))
        });
        let folder = folder.expect("our pins");
        let pins: Vec<_> = fs::read_dir(&folder).expect("pins").flatten().collect();
        assert!(pins.len() > 10, "{}", pins.len());
        // As if a release had been killed behind any of them.
        for pin in pins {
            fs::remove_file(pin.path()).expect("gone");
            world.run("release --keep").exits(0);
            world.run("enforce --keep").exits(0);
            world.is_reached(PortProtocol::Udp, pin.path().display());
            fs::remove_file(pin.path()).expect("gone");
            world.run("enforce --keep").exits(0);
            world.is_reached(PortProtocol::Udp, pin.path().display());
        }
    });
}

#[test]
fn what_is_lacking_at_boot_is_not_taken_for_chosen() {
    with_world("what_is_lacking_at_boot_is_not_taken_for_chosen", |world| {
        world.run("enforce --keep").exits(0);
        world.sluice().run(world_ends).expect("entered");
        rustix::mount::unmount("/sys/fs/cgroup", rustix::mount::UnmountFlags::DETACH)
            .expect("unmounted");
        let booted = world.json("enforce --boot");
        assert_eq!(booted["done"], "loaded-without-programs", "{booted:#}");
        assert!(booted["trouble"][0].as_str().is_some_and(|it| it.contains("control groups")));
        let text = world.run("status").exits(1).stdout;
        assert!(!text.contains("as was chosen"), "{text}");
        // The next boot asks for them again.
        assert_eq!(world.json("enforce --boot")["done"], "loaded-without-programs");
        let said = world.run("enforce --boot").exits(1).stdout;
        assert!(
            said.starts_with("loaded, without its rules for programs and users, sluice"),
            "{said}"
        );
    });
}

#[test]
fn what_is_lacking_is_said_and_stops_it() {
    with_world("what_is_lacking_is_said_and_stops_it", |_| {
        // No control groups, as where they are not mounted.
        rustix::mount::unmount("/sys/fs/cgroup", rustix::mount::UnmountFlags::DETACH)
            .expect("unmounted");
        let desk = Desk::with(MENDED);
        let sluice = |words: &[&str]| {
            let all = ["--host", "sluice"].iter().chain(words).copied().collect::<Vec<_>>();
            desk.run(all)
        };
        sluice(&["enforce", "--keep"]).exits(0);
        let rule = "name = \"metrics\"\nprogram = \"/usr/sbin/tidegauge\"";
        desk.write(MENDED.replace("name = \"metrics\"", rule));
        insta::assert_snapshot!(sluice(&["enforce", "--keep"]).exits(3).stderr);
        // What was in force still is.
        desk.write(MENDED);
        sluice(&["status"]).exits(0);
        desk.write(MENDED.replace("name = \"metrics\"", rule));
        let text = sluice(&["enforce", "--keep", "--without-programs"]).exits(0).stdout;
        assert!(text.contains("left out, since they name programs or users: metrics"), "{text}");
        let text = sluice(&["status"]).exits(0).stdout;
        assert!(text.contains("1 rule is left out, as was chosen"), "{text}");
        assert_eq!(sluice(&["status", "--format", "json"]).json()["left_out"][0], "metrics");
        // At boot too, and without having been chosen it is said to be wrong.
        sluice(&["enforce", "--boot"]).exits(0);
        assert!(sluice(&["status"]).exits(0).stdout.contains("metrics"));
    });
}

#[test]
fn scripts_and_other_names_are_told() {
    with_world("scripts_and_other_names_are_told", |world| {
        let shelf = world.shelf.path();
        fs::write(shelf.join("tally"), "#!/bin/sh\nexit 0\n").expect("written");
        set_executable(&shelf.join("tally"));
        std::os::unix::fs::symlink(shelf.join("seedbase"), shelf.join("seeds")).expect("linked");
        let list =
            ["tally", "seeds", "nowhere"].map(|it| format!("\"{}\"", shelf.join(it).display()));
        let program = format!("program = [{}]", list.join(", "));
        let one = format!("program = \"{}\"", shelf.join("seedbase").display());
        world.desk.write(world.policy().replace(&one, &program));
        let found = world.json("review --live")["findings"].clone();
        let codes: Vec<&str> = found
            .as_array()
            .expect("a list")
            .iter()
            .filter_map(|it| it["code"].as_str())
            .filter(|it| it.starts_with("program-"))
            .collect();
        assert_eq!(codes, ["program-missing", "program-shared", "program-is-script"]);
        let text = world.run("enforce --keep").exits(0).stdout;
        assert!(text.contains("is a script") && text.contains("is not there"), "{text}");
        // By whichever name, it is the program.
        let _server = world.serve("seedbase");
        world.is_reached(PortProtocol::Tcp, "named");
        world.run("status").exits(1);
    });
}

fn set_executable(path: &Path) {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(0o755)).expect("a mode");
}
