//! A boot ends closed, whatever is broken.

use crate::harness::{Desk, INHERITED, MENDED, Outcome, named};
use rustix::mount::{MountFlags, mount, mount_remount};
use std::fs;
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::path::PathBuf;
use std::time::Duration;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

const NAME: &str = "almanac";

/// A desk, and two machines of a lab of which one takes the place of the other.
pub struct Reboot {
    pub desk: Desk,
    lab: Lab,
}

impl Reboot {
    pub fn with(policy: &str) -> Self {
        let reboot = Self { desk: Desk::with(policy), lab: street_sluice_granary() };
        named(NAME, reboot.sluice());
        reboot
    }

    pub fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("it")
    }

    pub fn run(&self, args: &[&str]) -> Outcome {
        self.desk.on(self.sluice(), ["--host", "sluice"].iter().chain(args))
    }

    /// The machine comes up again: its rules are gone, and it has the name that the docket goes by.
    pub fn down(&self) {
        let rules = self.desk.kept_by(NAME).join("docket.jsonl");
        assert!(rules.exists(), "the docket is by the name");
        self.sluice()
            .run(|| {
                let mut kernel =
                    tipstaff_linux::NetlinkSocket::open(tipstaff_linux::Protocol::Netfilter)
                        .expect("a socket");
                tipstaff_linux::ruleset::release(&mut kernel).expect("gone");
            })
            .expect("entered");
    }

    /// What is remembered of who came, by who and how often.
    fn callers(&self) -> Vec<(String, u64)> {
        let told = self.run(&["callers", "--denied", "--format", "json"]).exits(0).json();
        let row = |it: &serde_json::Value| {
            (it["who"].as_str().unwrap_or_default().to_owned(), it["count"].as_u64().unwrap_or(0))
        };
        told["callers"].as_array().expect("a list").iter().map(row).collect()
    }

    /// Boots, and does not mind what is said of it.
    pub fn boots(&self) -> String {
        self.desk.on(self.sluice(), ["enforce", "--boot"]).stdout
    }

    pub fn boot(&self, code: i32) -> String {
        self.desk.on(self.sluice(), ["enforce", "--boot"]).exits(code).stdout
    }

    pub fn kept(&self, file: &str) -> PathBuf {
        self.desk.kept_by(NAME).join(file)
    }

    fn policies(&self) -> Vec<PathBuf> {
        let files = fs::read_dir(self.kept("policies")).expect("a folder").flatten();
        let mut files: Vec<PathBuf> = files.map(|it| it.path()).collect();
        files.sort_by_key(|it| fs::metadata(it).and_then(|it| it.modified()).expect("a time"));
        files
    }

    /// Whether somebody from the curators' office reaches a port, by a real connection.
    pub fn open(&self, port: u16) -> bool {
        let street = self.lab.node("street").expect("it");
        let any = format!("0.0.0.0:{port}");
        let listener = self.sluice().run(|| TcpListener::bind(any)).expect("run");
        let _listener = listener.expect("a port");
        let server = SocketAddr::from(([192, 0, 2, 10], port));
        let wait = Duration::from_millis(300);
        street.run(|| TcpStream::connect_timeout(&server, wait).is_ok()).expect("run")
    }

    /// Everything is closed but the shell's port.
    fn is_closed(&self, shell: u16) {
        assert!(self.open(shell), "the shell stays open at {shell}");
        for port in [80, 443, 22, 2202, 9100].into_iter().filter(|it| *it != shell) {
            assert!(!self.open(port), "{port} is closed");
        }
    }
}

/// The web is open, the shell is at a port of its own.
pub const POLICY: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
    shell = [\"2022/tcp\"]\n[[host.sluice.rule]]\nname = \"open\"\n\
    allow = [\"80/tcp\", \"2022/tcp\"]\n";

fn before(policy: &str) -> Reboot {
    let reboot = Reboot::with(policy);
    reboot.run(&["enforce", "--keep"]).exits(0);
    assert!(reboot.desk.note_of(NAME).exists(), "what a boot needs is noted");
    assert!(reboot.open(80) && reboot.open(2022) && !reboot.open(443));
    reboot.down();
    assert!(reboot.open(443), "without rules everything is open");
    reboot
}

#[test]
fn the_confirmed_policy_is_loaded_and_nothing_else() {
    sealed("booting::the_confirmed_policy_is_loaded_and_nothing_else", || {
        let reboot = Reboot::with(INHERITED);
        let nothing = reboot.boot(1);
        assert!(nothing.contains("no policy was confirmed yet"), "{nothing}");
        assert!(nothing.contains("tipstaff draft"), "{nothing}");
        reboot.run(&["enforce", "--keep"]).exits(0);
        reboot.desk.write(MENDED);
        reboot.run(&["enforce", "--confirm-within", "600"]).exits(0);
        // Nobody confirms; the machine goes down.
        let pending = reboot.kept("pending.json");
        let text = fs::read_to_string(&pending).expect("it waits");
        assert!(text.contains("\"sum\""), "{text}");
        reboot.down();
        // The policy's file is not even there yet.
        fs::remove_file(reboot.desk.path().join("policy.toml")).expect("gone");
        assert_eq!(reboot.boot(0), "loaded sluice, as of entry 1\n");
        reboot.desk.write(INHERITED);
        let now = reboot.run(&["--format", "json", "status"]).exits(0).json();
        assert_eq!((&now["equal"], &now["docket"]["loaded_at_boot"]), (&true.into(), &true.into()));
        let list = reboot.run(&["--format", "json", "docket"]).exits(0).json();
        let states = list["entries"].as_array().expect("a list").iter();
        let states: Vec<_> = states.map(|it| it["state"].as_str().expect("a word")).collect();
        assert_eq!(states, ["confirmed", "reverted", "confirmed"]);
        // What was loaded at a boot is what was confirmed, at the next one too.
        reboot.down();
        assert_eq!(reboot.boot(0), "loaded sluice, as of entry 1\n");
        // Out of the kernel, and that was confirmed.
        reboot.run(&["release", "--keep"]).exits(0);
        let said = reboot.boot(0);
        assert!(said.starts_with("nothing loaded: the rules were released"), "{said}");
        assert!(reboot.open(443));
    });
}

#[test]
fn a_state_folder_that_cannot_be_written_is_read() {
    sealed("booting::a_state_folder_that_cannot_be_written_is_read", || {
        let reboot = Reboot::with(POLICY);
        fs::create_dir_all(reboot.desk.state()).expect("a folder");
        let small = c"size=64k,mode=700";
        mount(c"small", reboot.desk.state(), c"tmpfs", MountFlags::empty(), small)
            .expect("mounted");
        reboot.run(&["enforce", "--keep"]).exits(0);
        reboot.desk.write(POLICY.replace("80/tcp", "443/tcp"));
        // Full, while a change waits: not one byte can be written any more.
        reboot.run(&["enforce", "--confirm-within", "600"]).exits(0);
        assert!(reboot.open(443) && !reboot.open(80));
        fs::write(reboot.desk.state().join("filler"), vec![0; 256 * 1024]).expect_err("full");
        reboot.down();
        // Whether it can be written down depends on what room its last page has.
        let said = reboot.boots();
        assert!(said.starts_with("loaded sluice, as of entry 1"), "{said}");
        assert!(reboot.open(80) && !reboot.open(443));
        fs::remove_file(reboot.desk.state().join("filler")).expect("gone");
        reboot.down();
        mount_remount(reboot.desk.state(), MountFlags::RDONLY, "").expect("read-only");
        let said = reboot.boot(1);
        assert!(said.starts_with("loaded sluice, as of entry 1"), "{said}");
        assert!(said.contains("Read-only file system"), "{said}");
        assert!(reboot.open(80) && !reboot.open(443));
    });
}

#[test]
fn damaged_lines_are_passed_over() {
    sealed("booting::damaged_lines_are_passed_over", || {
        let reboot = before(POLICY);
        let docket = reboot.kept("docket.jsonl");
        let whole = fs::read(&docket).expect("a docket");
        // One byte anywhere; a line behind that is no text; half a line.
        let mut damages: Vec<Vec<u8>> = (0..whole.len())
            .step_by(29)
            .map(|at| {
                let mut bytes = whole.clone();
                bytes[at] ^= 1;
                bytes
            })
            .collect();
        damages.push([&whole[..], b"\xff\xfe\x00 not a line\n"].concat());
        damages.push([&whole[..], b"{\"id\":2,\"time\":\"20"].concat());
        damages.push(whole[..whole.len() / 2].to_vec());
        for (number, damage) in damages.iter().enumerate() {
            fs::write(&docket, damage).expect("damaged");
            let said = reboot.boots();
            assert!(said.starts_with("loaded sluice, as of entry 1"), "{number}: {said}");
            assert!(reboot.open(80) && !reboot.open(443), "{number}");
            reboot.down();
        }
    });
}

#[test]
fn without_its_docket_a_machine_is_closed_but_for_its_shell() {
    sealed("booting::without_its_docket_a_machine_is_closed_but_for_its_shell", || {
        // The note says which policy it was, and that is still there.
        for lose in [true, false] {
            let reboot = before(POLICY);
            let docket = reboot.kept("docket.jsonl");
            if lose { fs::remove_file(&docket) } else { fs::write(&docket, "") }.expect("lost");
            let said = reboot.boot(0);
            assert!(said.starts_with("loaded sluice, as of entry 1"), "{said}");
            assert!(reboot.open(80) && !reboot.open(443));
            // Without the note, that there are policies shows that there was a docket.
            reboot.down();
            fs::remove_file(reboot.desk.note_of(NAME)).expect("gone");
            fs::write(&docket, "").expect("lost");
            let said = reboot.boot(1);
            assert!(said.starts_with("closed"), "{said}");
            assert!(said.contains("2022/tcp"), "{said}");
            reboot.is_closed(2022);
        }
        // With the note and nothing else: closed, with just that port.
        let reboot = before(POLICY);
        fs::remove_dir_all(reboot.desk.state()).expect("gone");
        let said = reboot.boot(1);
        assert!(said.starts_with("closed sluice: only the baseline"), "{said}");
        reboot.is_closed(2022);
        // With neither it was never configured, and that is said.
        reboot.down();
        fs::remove_dir_all(reboot.desk.state()).expect("gone");
        fs::remove_file(reboot.desk.note_of(NAME)).expect("gone");
        assert!(reboot.boot(1).contains("no policy was confirmed yet"));
        assert!(reboot.open(443));
    });
}

#[test]
fn damaged_policies_and_notes_leave_an_earlier_policy_or_the_shell() {
    sealed("booting::damaged_policies_and_notes_leave_an_earlier_policy_or_the_shell", || {
        let reboot = Reboot::with(POLICY);
        reboot.run(&["enforce", "--keep"]).exits(0);
        reboot.desk.write(POLICY.replace("80/tcp", "443/tcp"));
        reboot.run(&["enforce", "--keep"]).exits(0);
        let [first, last] = &reboot.policies()[..] else { panic!("two policies") };
        let whole = fs::read(last).expect("a policy");
        reboot.down();
        // The last one is damaged: the one before it stands.
        fs::write(last, "{}").expect("damaged");
        let said = reboot.boot(1);
        assert!(said.contains("loaded an earlier policy of sluice, as of entry 1"), "{said}");
        assert!(reboot.open(80) && !reboot.open(443));
        // All are, empty: only the shell is left.
        for file in [first, last] {
            fs::write(file, "").expect("damaged");
        }
        reboot.down();
        let said = reboot.boot(1);
        assert!(said.contains("only the baseline and the remote shell (2022/tcp)"), "{said}");
        reboot.is_closed(2022);
        // Not even the note can be read: still closed, with the port that the docket knows.
        fs::write(reboot.desk.note_of(NAME), "\u{0}").expect("damaged");
        reboot.down();
        let said = reboot.boot(1);
        assert!(said.starts_with("closed"), "{said}");
        reboot.is_closed(2022);
        let status = reboot.run(&["status"]).exits(1).stdout;
        assert!(status.contains("is not what it was") && status.contains("note for the boot"));
        // What is at hand mends what is damaged.
        reboot.run(&["enforce", "--keep"]).exits(0);
        assert_eq!(fs::read(last).expect("a policy"), whole, "written anew");
        reboot.down();
        let said = reboot.boot(0);
        assert!(said.starts_with("loaded sluice"), "{said}");
        assert!(reboot.open(443) && !reboot.open(80));
    });
}

#[test]
fn who_wants_an_open_machine_when_all_fails_gets_it() {
    sealed("booting::who_wants_an_open_machine_when_all_fails_gets_it", || {
        let reboot = before(&POLICY.replace("shell =", "on-failure = \"open\"\nshell ="));
        fs::remove_dir_all(reboot.kept("policies")).expect("gone");
        let said = reboot.boot(1);
        assert!(said.starts_with("open sluice"), "{said}");
        assert!(reboot.open(443) && reboot.open(80));
    });
}

#[test]
fn the_shells_port_is_known_even_where_nothing_kept_says_it() {
    sealed("booting::the_shells_port_is_known_even_where_nothing_kept_says_it", || {
        // As after a first enforcement that was killed before it came to the kernel.
        let reboot = before(POLICY);
        fs::remove_file(reboot.desk.note_of(NAME)).expect("gone");
        fs::write(reboot.kept("docket.jsonl"), "").expect("emptied");
        let kept =
            fs::read_dir(reboot.kept("policies")).expect("a folder").next().expect("a policy");
        fs::write(kept.expect("it").path(), "{").expect("torn");
        let said = reboot.boot(1);
        assert!(said.starts_with("closed"), "{said}");
        reboot.is_closed(2022);
    });
}

#[test]
fn a_folder_that_others_could_fill_is_not_followed() {
    sealed("booting::a_folder_that_others_could_fill_is_not_followed", || {
        use std::os::unix::fs::PermissionsExt;
        let reboot = before(POLICY);
        let mode = |mode| fs::Permissions::from_mode(mode);
        for folder in [reboot.desk.state(), reboot.desk.kept_by(NAME)] {
            fs::set_permissions(&folder, mode(0o777)).expect("a mode");
            let said = reboot.boot(1);
            // The note has the digest of what was confirmed: nobody can put another in its place.
            assert!(said.starts_with("loaded sluice"), "{said}");
            assert!(said.contains("can be written by others"), "{said}");
            assert!(reboot.open(80) && !reboot.open(443));
            reboot.down();
            let note = fs::read(reboot.desk.note_of(NAME)).expect("a note");
            fs::remove_file(reboot.desk.note_of(NAME)).expect("gone");
            let said = reboot.boot(1);
            assert!(said.starts_with("closed"), "{said}");
            // The policy's file is the administrator's; all else could have been filled by others.
            reboot.is_closed(2022);
            reboot.desk.write("");
            reboot.down();
            reboot.boot(1);
            reboot.is_closed(22);
            reboot.desk.write(POLICY);
            fs::write(reboot.desk.note_of(NAME), note).expect("again");
            let refused = reboot.run(&["enforce", "--keep"]).exits(3);
            assert!(refused.stderr.contains("can be written by others"), "{}", refused.stderr);
            fs::set_permissions(&folder, mode(0o700)).expect("a mode");
            reboot.down();
        }
        // Files that are none do not make it wait.
        let docket = reboot.kept("docket.jsonl");
        let whole = fs::read(&docket).expect("a docket");
        fs::remove_file(&docket).expect("gone");
        rustix::fs::mknodat(
            rustix::fs::CWD,
            &docket,
            rustix::fs::FileType::Fifo,
            rustix::fs::Mode::from_raw_mode(0o600),
            0,
        )
        .expect("a pipe");
        let said = reboot.boot(1);
        assert!(said.starts_with("loaded sluice, as of entry 1"), "by the note: {said}");
        let aside = reboot.desk.path().join("aside");
        fs::write(&aside, &whole).expect("written");
        fs::remove_file(&docket).expect("gone");
        std::os::unix::fs::symlink(&aside, &docket).expect("a link");
        reboot.down();
        let said = reboot.boot(1);
        assert!(said.contains("cannot be read"), "a link is not followed: {said}");
        assert!(reboot.open(80) && !reboot.open(443));
    });
}

#[test]
fn what_nobody_confirmed_is_taken_out_where_nothing_was() {
    sealed("booting::what_nobody_confirmed_is_taken_out_where_nothing_was", || {
        let reboot = Reboot::with(POLICY);
        reboot.run(&["enforce", "--confirm-within", "600"]).exits(0);
        assert!(!reboot.open(443));
        let said = reboot.boot(1);
        assert!(said.contains("no policy was confirmed yet, and everything passes"), "{said}");
        assert!(reboot.open(443), "as it says");
    });
}

#[test]
fn who_came_before_is_remembered_after() {
    sealed("booting::who_came_before_is_remembered_after", || {
        let world = Reboot::with(INHERITED);
        world.run(&["enforce", "--keep"]).exits(0);
        let street = world.lab.node("street").expect("it");
        let knock = || {
            let caller = UdpSocket::bind("203.0.113.9:0").expect("bound");
            caller.send_to(b"?", "192.0.2.10:9").expect("sent");
        };
        street.run(knock).expect("entered");
        street.run(knock).expect("entered");
        std::thread::sleep(Duration::from_millis(50));
        assert_eq!(world.callers(), [("203.0.113.9".to_owned(), 2)]);
        let saved = world.run(&["callers", "--save"]).exits(0).stdout;
        assert_eq!(saved, "written down: 1 entry\n");
        world.down();
        assert_eq!(world.run(&["callers"]).exits(1).stdout, "");
        world.boot(0);
        street.run(knock).expect("entered");
        std::thread::sleep(Duration::from_millis(50));
        assert_eq!(world.callers(), [("203.0.113.9".to_owned(), 3)]);

        // What is damaged is said, and keeps nothing from being loaded.
        world.down();
        fs::write(world.kept("callers.json"), b"{").expect("written");
        let said = world.boot(1);
        assert!(said.contains("who came before the reboot cannot be read"), "{said}");
        assert_eq!(world.callers(), []);
        // Now and then it is written down by itself.
        fs::remove_file(world.kept("callers.json")).expect("removed");
        street.run(knock).expect("entered");
        std::thread::sleep(Duration::from_millis(50));
        world.desk.on(world.sluice(), ["enforce", "--boot", "--if-gone"]).exits(0);
        let kept = fs::read_to_string(world.kept("callers.json")).expect("written");
        assert!(kept.contains("203.0.113.9"), "{kept}");
    });
}
