//! Postures that hold by themselves, by where the machine is.

use crate::harness::{Desk, Outcome, finish};
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::net::{IpAddr, TcpListener};
use std::os::unix::net::UnixDatagram;
use std::process::{Child, Stdio};
use std::sync::mpsc;
use std::thread::sleep;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tipstaff_core::policy::Time;
use tipstaff_linux::Machine as _;
use tipstaff_linux::lab::changing::{Way, route, switch};
use tipstaff_linux::lab::testing::{address, sealed};
use tipstaff_linux::lab::{Interface, Lab, Machine, Node, Route, Topology};

/// A laptop with a link to the office, one to the mill, and one to somebody who says that he is the office.
fn lab() -> Lab {
    let interface = |name: &str, segment: &str, at: &str| Interface {
        name: name.into(),
        segment: segment.into(),
        addresses: vec![(address(at), 24)],
    };
    let gate = |name: &str, at: &str| Machine {
        name: name.into(),
        interfaces: vec![interface("eth0", name, at)],
        ..Machine::default()
    };
    let laptop = Machine {
        name: "bench".into(),
        interfaces: vec![
            interface("eth0", "office", "10.44.8.77"),
            interface("eth1", "mill", "10.44.9.77"),
            interface("eth2", "copycat", "10.44.8.78"),
        ],
        routes: vec![Route { network: (address("0.0.0.0"), 0), gateway: address("10.44.8.1") }],
        ..Machine::default()
    };
    let machines = vec![
        gate("office", "10.44.8.1"),
        gate("mill", "10.44.9.1"),
        gate("copycat", "10.44.8.1"),
        laptop,
    ];
    Lab::build(&Topology { machines }).expect("a lab")
}

struct World {
    lab: Lab,
    desk: Desk,
}

impl World {
    fn new() -> Self {
        let lab = lab();
        let hardware = |name: &str| {
            let bytes = lab.node(name).expect("it").hardware_address("eth0").expect("one");
            bytes.map(|it| format!("{it:02x}")).join(":")
        };
        let posture = |name: &str, network: &str, gateway: &str| {
            format!(
                "[host.bench.posture.{name}]\nwhen = {{ on-link = [\"{network}\"], gateway = [\"{gateway}\"], \
                 gateway-hardware = [\"{}\"] }}\n[[host.bench.posture.{name}.rule]]\nname = \"of-{name}\"\n\
                 allow = [\"22/tcp\"]\n",
                hardware(name)
            )
        };
        let text = format!(
            "edition = 1\n[host.bench]\nat-boot = \"sealed\"\n\
             [host.bench.posture.sealed]\ninstead = true\ndefault = {{ inbound = \"deny\", outbound = \"deny\" }}\n{}{}",
            posture("office", "10.44.8.0/24", "10.44.8.1"),
            posture("mill", "10.44.9.0/24", "10.44.9.1"),
        );
        let world = Self { lab, desk: Desk::with(text) };
        for link in ["eth1", "eth2"] {
            world.bench().run(|| switch(link, false)).expect("entered");
        }
        world
    }

    fn bench(&self) -> &Node {
        self.lab.node("bench").expect("it")
    }

    fn run(&self, args: &[&str]) -> Outcome {
        self.desk.on(self.bench(), ["--host", "bench"].iter().chain(args))
    }

    /// The posture in force, by the kernel's word.
    fn posture(&self) -> Option<String> {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).expect("after 1970").as_secs();
        let now = Time::from_seconds(now.try_into().expect("before the end of all times"));
        let look = || tipstaff_linux::Here.posture().expect("read");
        let held = self.bench().run(look).expect("entered");
        held.and_then(|it| it.1.at(now).map(|it| it.name.clone()))
    }

    /// Waits until that posture is in force, and gives all that were meanwhile.
    #[track_caller]
    fn until(&self, posture: &str, most: Duration) -> Vec<Option<String>> {
        let began = Instant::now();
        let mut seen = Vec::new();
        loop {
            let now = self.posture();
            if seen.last() != Some(&now) {
                seen.push(now.clone());
            }
            if now.as_deref() == Some(posture) {
                return seen;
            }
            assert!(began.elapsed() < most, "{posture}: {seen:?}");
        }
    }

    /// Goes from wherever it is to a network, by a link and a gateway.
    fn arrive(&self, link: &str, gateway: &str) {
        let gateway: IpAddr = address(gateway);
        self.bench()
            .run(|| {
                switch(link, true);
                route(address("0.0.0.0"), 0, &Way::Gateway(gateway));
            })
            .expect("entered");
    }

    fn depart(&self, link: &str) {
        self.bench().run(|| switch(link, false)).expect("entered");
    }

    fn listen(&self, at: &str) -> TcpListener {
        self.bench().run(|| TcpListener::bind(at)).expect("entered").expect("bound")
    }

    fn attend(&self) -> Attending {
        let mut command = self.desk.command(["--host", "bench", "attend"]);
        self.bench().start_here(&mut command).expect("it can start there");
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        Attending(command.spawn().expect("it starts"))
    }
}

struct Attending(Child);

impl Drop for Attending {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// One second, and what a busy machine takes.
const SOON: Duration = Duration::from_millis(2_500);

#[test]
fn a_posture_holds_where_it_belongs_and_nowhere_else() {
    sealed("attending::a_posture_holds_where_it_belongs_and_nowhere_else", || {
        let world = World::new();
        world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0);
        // Without anybody who attends, the next command sees to it.
        world.run(&["status"]).exits(0);
        assert_eq!(world.posture().as_deref(), Some("office"));
        let told = world.run(&["posture"]).exits(0).stdout;
        assert!(told.contains("not attended") && told.contains("by itself"), "{told}");
        let attending = world.attend();
        let began = Instant::now();
        while !told_as_attended(&world) {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not attend");
            sleep(Duration::from_millis(20));
        }
        // From one network to another: what holds between them is the strict one, and never none.
        world.depart("eth0");
        assert_eq!(world.until("sealed", SOON), [Some("office".into()), Some("sealed".into())]);
        let began = Instant::now();
        world.arrive("eth1", "10.44.9.1");
        let seen = world.until("mill", SOON);
        println!("the mill's posture {:?} after the last fact", began.elapsed());
        assert!(seen.iter().all(Option::is_some), "{seen:?}");
        world.depart("eth1");
        world.until("sealed", SOON);
        // The same network and gateway, by their word; another one, by its hardware.
        world.arrive("eth2", "10.44.8.1");
        for _ in 0..20 {
            assert_eq!(world.posture().as_deref(), Some("sealed"));
            sleep(Duration::from_millis(100));
        }
        world.depart("eth2");
        world.arrive("eth0", "10.44.8.1");
        world.until("office", SOON);

        // Taken by hand, another holds until it is left; then the one that belongs there, in one step.
        world.run(&["posture", "take", "sealed", "--keep"]).exits(0);
        sleep(Duration::from_millis(1_500));
        assert_eq!(world.posture().as_deref(), Some("sealed"));
        let told = world.run(&["posture", "leave", "--keep"]).exits(0).stdout;
        assert!(told.contains("office"), "{told}");
        assert_eq!(world.posture().as_deref(), Some("office"));
        let told = world.run(&["posture", "leave", "--keep"]).exits(1).stderr;
        assert!(told.contains("in force by itself"), "{told}");
        let second = world.run(&["attend"]).exits(1).stderr;
        assert!(second.contains("another process attends already"), "{second}");

        // Killed, nothing is lost: the next command sees to it, and the next one attends.
        drop(attending);
        world.depart("eth0");
        sleep(Duration::from_millis(300));
        assert_eq!(world.posture().as_deref(), Some("office"));
        world.run(&["status"]).exits(0);
        assert_eq!(world.posture().as_deref(), Some("sealed"));
        let _attending = world.attend();
        world.arrive("eth1", "10.44.9.1");
        world.until("mill", Duration::from_secs(10));
        let docket = world.run(&["docket"]).exits(0).stdout;
        assert!(docket.contains("take mill") && docket.contains("take sealed"), "{docket}");
    });
}

fn told_as_attended(world: &World) -> bool {
    let told = world.run(&["posture", "--format", "json"]).exits(0).json();
    told["attended"] == true
}

/// A boot begins where nothing is known; what is taken for a time gives way to what belongs there.
#[test]
fn what_ends_gives_way_to_what_belongs_there() {
    sealed("attending::what_ends_gives_way_to_what_belongs_there", || {
        let world = World::new();
        world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0);
        world.run(&["status"]).exits(0);
        let _attending = world.attend();
        world.run(&["posture", "take", "sealed", "--for", "1s"]).exits(0);
        assert_eq!(world.posture().as_deref(), Some("sealed"));
        world.until("office", Duration::from_secs(10));
        // Taken at the office, over elsewhere: the office's does not hold there for an instant.
        world.run(&["posture", "take", "mill", "--for", "2s", "--even-if-locked-out"]).exits(0);
        world.depart("eth0");
        let seen = world.until("sealed", Duration::from_secs(10));
        assert_eq!(seen, [Some("mill".into()), Some("sealed".into())]);
        world.run(&["status"]).exits(0);
    });
}

/// The service manager is told that it is ready, and that it lives.
#[test]
fn whoever_manages_services_is_told() {
    sealed("attending::whoever_manages_services_is_told", || {
        let world = World::new();
        world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0);
        let path = world.desk.path().join("notify");
        let manager = UnixDatagram::bind(&path).expect("bound");
        manager.set_read_timeout(Some(Duration::from_secs(20))).expect("set");
        let mut command = world.desk.command(["--host", "bench", "attend"]);
        command.env("NOTIFY_SOCKET", &path).stdout(Stdio::null()).stderr(Stdio::null());
        world.bench().start_here(&mut command).expect("it can start there");
        let _attending = Attending(command.spawn().expect("it starts"));
        let mut said = [0; 64];
        let mut hear = || {
            let length = manager.recv(&mut said).expect("told");
            String::from_utf8_lossy(&said[..length]).into_owned()
        };
        assert_eq!(hear(), "READY=1");
        assert_eq!(world.posture().as_deref(), Some("office"), "ready means done");
        assert_eq!(hear(), "WATCHDOG=1");
    });
}

/// What begins to listen is told, with what the policy says of it, and stays new until somebody says that he knows.
#[test]
fn what_begins_to_listen_is_told() {
    sealed("attending::what_begins_to_listen_is_told", || {
        let world = World::new();
        let listen = |at: &str| world.listen(at);
        let _known = listen("0.0.0.0:22");
        world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0);
        let first = world.run(&["newcomers"]).exits(0).stdout;
        assert!(first.contains("nobody had looked before"), "{first}");
        let _inside = listen("127.0.0.1:6000");
        assert!(world.run(&["newcomers"]).exits(0).stdout.contains("nothing that did not before"));
        let came = listen("0.0.0.0:8080");
        let told = world.run(&["newcomers"]).exits(1).stdout;
        assert!(
            told.contains("8080/tcp") && told.contains("nobody can reach it, by default/inbound"),
            "{told}"
        );
        assert!(told.contains("--allow 8080/tcp --from PLACE"), "{told}");
        assert!(told.contains("tipstaff expect add deny 8080/tcp"), "{told}");
        // Both commands are such as can be typed.
        let report = world.run(&["newcomers", "--format", "json"]).exits(1).json();
        let new = &report["newcomers"][0];
        assert_eq!((&new["listens"], &new["reached_by"]), (&true.into(), &"nobody".into()));
        for key in ["to_admit", "to_shut"] {
            let line = new[key].as_str().expect("words").replace("PLACE", "10.44.8.0/24");
            let words: Vec<&str> = line.split_whitespace().skip(1).chain(["--dry-run"]).collect();
            world.run(&words).exits(0);
        }
        // Gone or not, it is told until somebody knows.
        drop(came);
        let told = world.run(&["newcomers", "--known"]).exits(0).stdout;
        assert!(told.contains("not any more") && told.contains("they are known"), "{told}");
        world.run(&["newcomers"]).exits(0);
    });
}

/// Whoever attends says so at once, and has a command run.
#[test]
fn what_begins_to_listen_is_told_at_once() {
    sealed("attending::what_begins_to_listen_is_told_at_once", || {
        let world = World::new();
        let listen = |at: &str| world.listen(at);
        world.run(&["enforce", "--keep", "--not-this-machine"]).exits(0);
        world.run(&["newcomers"]).exits(0);
        let seen = world.desk.path().join("seen");
        let mut command =
            world.desk.command(["--host", "bench", "attend", "--format", "json", "--run"]);
        command.arg("echo \"$TIPSTAFF_TRAFFIC $TIPSTAFF_REACHED_BY\" >>seen");
        world.bench().start_here(&mut command).expect("it can start there");
        command.stdout(Stdio::piped()).stderr(Stdio::null());
        let mut attending = Attending(command.spawn().expect("it starts"));
        let out = attending.0.stdout.take().expect("piped");
        let (told, lines) = mpsc::channel();
        std::thread::spawn(move || {
            BufReader::new(out).lines().map_while(Result::ok).try_for_each(|it| told.send(it))
        });
        let line = || -> Value {
            let line = lines.recv_timeout(Duration::from_secs(20)).expect("a line");
            serde_json::from_str(&line).expect("JSON")
        };
        let began = Instant::now();
        while !told_as_attended(&world) {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not attend");
            sleep(Duration::from_millis(20));
        }
        // It has looked by then.
        sleep(Duration::from_millis(500));
        let again = listen("0.0.0.0:9090");
        let came = line();
        assert_eq!((&came["what"], &came["traffic"]), (&"newcomer".into(), &"9090/tcp".into()));
        let began = Instant::now();
        while std::fs::read_to_string(&seen).unwrap_or_default() != "9090/tcp nobody\n" {
            assert!(began.elapsed() < Duration::from_secs(60), "the command has not run");
            sleep(Duration::from_millis(20));
        }
        // What goes and what comes, one for one.
        drop(again);
        let _other = listen("0.0.0.0:9091");
        let came = line();
        assert_eq!((&came["what"], &came["traffic"]), (&"newcomer".into(), &"9091/tcp".into()));
        // In the posture of the office somebody may come in at 22; at what is open, the other command is told.
        world.run(&["rule", "add", "all", "--allow", "9090/tcp"]).exits(0);
        let told = world.run(&["newcomers"]).exits(1).stdout;
        assert!(
            told.contains("everybody can reach it, by all")
                && told.contains("tipstaff rule change all --from PLACE")
                && told.contains("--deny 9090/tcp --first"),
            "{told}"
        );
        // What was written down and is damaged is not taken for nothing.
        std::fs::write(
            world.bench().run(|| world.desk.kept()).expect("entered").join("listening.json"),
            "[{",
        )
        .expect("written");
        let told = world.run(&["newcomers"]).exits(3).stderr;
        assert!(told.contains("what listened before is not known"), "{told}");
    });
}

/// What cannot be meant is told where it is written.
#[test]
fn places_that_anybody_could_have_are_none() {
    let policy = |when: &str, at_boot: &str| {
        Desk::with(format!(
            "edition = 1\n[host.bench]\naddresses = [\"10.44.8.77/24\"]\n{at_boot}\
             [host.bench.posture.office]\nwhen = {when}\n[host.bench.posture.sealed]\ninstead = true\n"
        ))
    };
    let at_boot = "at-boot = \"sealed\"\n";
    let mac = "gateway-hardware = [\"52:54:00:44:08:01\"]";
    for (when, at_boot, why) in [
        ("{ on-link = [\"10.44.8.0/24\"], gateway = [\"10.44.8.1\"] }", at_boot, "anybodys-place"),
        (&*format!("{{ {mac} }}"), "", "no-elsewhere"),
        (&*format!("{{ {mac} }}"), "at-boot = \"office\"\n", "has a place itself"),
        ("{ gateway-hardware = [\"52:54\"] }", at_boot, "is not a hardware address"),
        (&*format!("{{ gateway = [\"10.44.8.0/24\"], {mac} }}"), at_boot, "expected one address"),
        ("{ up = [\"a b\"] }", at_boot, "cannot name an interface"),
        (&*format!("{{ on-link = [], {mac} }}"), at_boot, "empty-list"),
        (&*format!("{{ where = \"x\", {mac} }}"), at_boot, "has no key `where`"),
    ] {
        let told = finish(policy(when, at_boot).command(["show"])).exits(2).stderr;
        assert!(told.contains(why), "{why}: {told}");
    }
    policy(&format!("{{ {mac}, up = [\"tunnel\"] }}"), at_boot).run(["show"]).exits(0);
}
