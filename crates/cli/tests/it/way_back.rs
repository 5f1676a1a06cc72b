//! What is not confirmed goes back, always; and what is confirmed is what is there.

use crate::harness::{Desk, INHERITED, MENDED, Outcome, give};
use rustix::mount::{MountFlags, mount, mount_remount};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::Value;
use std::fs;
use std::os::unix::process::CommandExt;
use std::process::Stdio;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::{sealed, sealed_with_hooks, street_sluice_granary};
use tipstaff_linux::ruleset::{TABLE, read};
use tipstaff_linux::{NetlinkSocket, Protocol};
use tipstaff_wire::nf_tables as nf;

fn on_sluice(desk: &Desk, args: &[&str]) -> Outcome {
    desk.run(["--host", "sluice"].iter().chain(args))
}

fn status(desk: &Desk) -> Value {
    on_sluice(desk, &["--format", "json", "status"]).json()
}

/// Whether the kernel holds the rules of this text, by its own word: no command of ours is asked, since
/// every command also sees to it that what is overdue goes back.
fn holds(text: &str) -> bool {
    use tipstaff_core::policy::Source;
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    let Some(held) = read(&mut kernel).expect("read") else { return false };
    let policy = tipstaff_core::policy::read(&Source::new("policy.toml", text)).expect("a policy");
    let now = tipstaff_core::policy::Time::from_seconds(1_800_000_000);
    let plan = tipstaff_core::plan::resolve(&policy, "sluice", now).expect("the host");
    held.program == tipstaff_core::program::lower(&plan)
}

#[track_caller]
fn soon(within: Duration, what: impl Fn() -> bool) {
    let deadline = Instant::now() + within;
    while !what() {
        assert!(Instant::now() < deadline, "it did not come");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// One policy is kept, and another waits for so many seconds: more than a busy machine takes to look.
fn waiting(desk: &Desk, seconds: u32) -> Instant {
    on_sluice(desk, &["enforce", "--keep"]).exits(0);
    desk.write(MENDED);
    on_sluice(desk, &["enforce", "--confirm-within", &seconds.to_string()]).exits(0);
    let begun = Instant::now();
    assert!(holds(MENDED));
    begun
}

/// By the deadline and two seconds more, nothing but the kept policy is in force.
#[track_caller]
fn goes_back(begun: Instant, seconds: u64) {
    let left = Duration::from_secs(seconds + 2).saturating_sub(begun.elapsed());
    soon(left, || holds(INHERITED));
}

#[test]
fn a_relative_folder_is_found_again() {
    sealed("way_back::a_relative_folder_is_found_again", || {
        let desk = Desk::with(INHERITED);
        let run = |args: &[&str], by_option: bool| {
            let mut command = desk.command(Vec::<&str>::new());
            if by_option {
                command.args(["--state", "near"]);
            } else {
                command.env("TIPSTAFF_STATE", "near");
            }
            command.args(["--host", "sluice"]).args(args);
            crate::harness::finish(command).exits(0);
        };
        for by_option in [true, false] {
            desk.write(INHERITED);
            run(&["enforce", "--keep"], by_option);
            desk.write(MENDED);
            run(&["enforce", "--confirm-within", "4"], by_option);
            assert!(holds(MENDED));
            goes_back(Instant::now(), 4);
        }
    });
}

#[test]
fn damage_and_a_disk_that_cannot_be_written_keep_nothing() {
    sealed("way_back::damage_and_a_disk_that_cannot_be_written_keep_nothing", || {
        type Harm = fn(&Desk);
        let harms: [(&str, Harm); 9] = [
            ("read-only", |desk| {
                mount_remount(desk.state(), MountFlags::RDONLY, "").expect("read-only");
            }),
            ("the docket is no text", |desk| {
                fs::write(desk.kept().join("docket.jsonl"), b"\xff\xfe").expect("damaged");
            }),
            ("the docket is empty", |desk| {
                fs::write(desk.kept().join("docket.jsonl"), "").expect("damaged");
            }),
            ("the docket is gone", |desk| {
                fs::remove_file(desk.kept().join("docket.jsonl")).expect("gone");
            }),
            ("what waits is damaged", |desk| {
                fs::write(desk.kept().join("pending.json"), "{}").expect("damaged");
            }),
            ("what waits is gone", |desk| {
                fs::remove_file(desk.kept().join("pending.json")).expect("gone");
            }),
            ("the policies are damaged", |desk| {
                for file in fs::read_dir(desk.kept().join("policies")).expect("it").flatten() {
                    fs::write(file.path(), "{}").expect("damaged");
                }
            }),
            ("everything is gone", |desk| {
                fs::remove_dir_all(desk.kept()).expect("gone");
            }),
            ("the disk is full", |desk| {
                fs::write(desk.state().join("filler"), vec![0; 1 << 20]).expect_err("full");
            }),
        ];
        for (name, harm) in harms {
            println!("{name}");
            let desk = Desk::with(INHERITED);
            fs::create_dir_all(desk.state()).expect("a folder");
            let small = c"size=200k,mode=700";
            mount(c"small", desk.state(), c"tmpfs", MountFlags::empty(), small).expect("mounted");
            let begun = waiting(&desk, 4);
            harm(&desk);
            goes_back(begun, 4);
        }
    });
}

fn watcher(desk: &Desk) -> Pid {
    let text = fs::read_to_string(desk.kept().join("pending.json")).expect("it waits");
    let value: Value = serde_json::from_str(&text).expect("JSON");
    let pid = value["watcher"]["pid"].as_i64().expect("a number");
    Pid::from_raw(i32::try_from(pid).expect("small")).expect("a process")
}

/// Kills it, and waits until it has ended: until then it lives, for whoever looks.
fn end_watcher(desk: &Desk) {
    let pid = watcher(desk);
    kill_process(pid, Signal::KILL).expect("killed");
    let stat = format!("/proc/{}/stat", pid.as_raw_pid());
    let deadline = Instant::now() + Duration::from_secs(2);
    // The state stands behind the name in parentheses; nobody may be there to take note of the end.
    while fs::read_to_string(&stat).is_ok_and(|it| !it.contains(") Z ")) {
        assert!(Instant::now() < deadline, "it was killed and goes on");
        std::thread::sleep(Duration::from_millis(1));
    }
}

#[test]
fn whoever_keeps_the_machine_busy_does_not_keep_the_watcher_from_its_work() {
    sealed(
        "way_back::whoever_keeps_the_machine_busy_does_not_keep_the_watcher_from_its_work",
        || {
            let desk = Desk::with(INHERITED);
            waiting(&desk, 30);
            // Who may not raise a priority has a watcher like everybody else.
            let may = rustix::process::setpriority_process(None, -20).is_ok();
            let wanted = if may { -20 } else { 0 };
            let its = rustix::process::getpriority_process(Some(watcher(&desk))).expect("it lives");
            assert_eq!(its, wanted);
            let last = fs::write("/proc/self/oom_score_adj", "-1000").is_ok();
            let path = format!("/proc/{}/oom_score_adj", watcher(&desk).as_raw_pid());
            let its = fs::read_to_string(path).expect("it lives");
            assert_eq!(its.trim() == "-1000", last, "{its}");
            on_sluice(&desk, &["revert"]).exits(0);
        },
    );
}

#[test]
fn any_command_does_what_a_killed_watcher_did_not() {
    sealed("way_back::any_command_does_what_a_killed_watcher_did_not", || {
        for command in [&["status"][..], &["show"], &["docket"], &["enforce", "--dry-run"]] {
            let desk = Desk::with(INHERITED);
            let begun = waiting(&desk, 6);
            let now = status(&desk);
            assert_eq!(now["docket"]["watched"], true);
            assert!(now["docket"]["seconds_left"].as_u64().is_some_and(|it| it <= 6), "{now:#}");
            end_watcher(&desk);
            std::thread::sleep(Duration::from_millis(6_100).saturating_sub(begun.elapsed()));
            assert!(holds(MENDED), "nobody saw to it");
            on_sluice(&desk, command);
            assert!(command[0] == "enforce" || holds(INHERITED), "{command:?}");
            // While there is time, another watcher is started.
            if command[0] == "enforce" {
                on_sluice(&desk, &["status"]);
            }
            assert!(holds(INHERITED));
            on_sluice(&desk, &["release", "--keep"]).exits(0);
        }
        let desk = Desk::with(INHERITED);
        let begun = waiting(&desk, 6);
        end_watcher(&desk);
        assert_eq!(status(&desk)["docket"]["watched"], true, "another one was started");
        goes_back(begun, 6);
    });
}

#[test]
fn interrupted_at_any_moment_it_goes_back_or_was_never_made() {
    sealed("way_back::interrupted_at_any_moment_it_goes_back_or_was_never_made", || {
        let rounds = 40;
        // Whoever started the tests in the background may have had Ctrl-C ignored; then the gentle end.
        let status = fs::read_to_string("/proc/self/status").expect("a status");
        let ignored = status.lines().find_map(|it| it.strip_prefix("SigIgn:")).expect("signals");
        let ignored = u64::from_str_radix(ignored.trim(), 16).expect("a number");
        let signal = if ignored & 0b10 == 0 { Signal::INT } else { Signal::TERM };
        let (mut made, mut never) = (0, 0);
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        desk.write(MENDED);
        for round in 0..rounds {
            // The whole group, as a terminal does it on Ctrl-C.
            let mut command =
                desk.command(["--host", "sluice", "enforce", "--confirm-within", "1"]);
            command.process_group(0).stdout(Stdio::null()).stderr(Stdio::null());
            let mut child = command.spawn().expect("it starts");
            let pending = desk.kept().join("pending.json");
            // Some at once, some around the moment at which it is noted, the others anywhere.
            if round % 2 == 0 {
                let begun = Instant::now();
                while !pending.exists() && begun.elapsed() < Duration::from_secs(2) {}
                std::thread::sleep(Duration::from_micros(round * 300));
            } else if round % 4 == 1 {
                std::thread::sleep(Duration::from_micros(500 + round * 700));
            }
            let group = Pid::from_child(&child);
            let _ = rustix::process::kill_process_group(group, signal);
            child.wait().expect("ended");
            if holds(MENDED) {
                made += 1;
            } else {
                never += 1;
            }
            goes_back(Instant::now(), 1);
            // The note may still lie there for a moment.
            soon(Duration::from_secs(3), || {
                on_sluice(&desk, &["status"]);
                !pending.exists()
            });
        }
        assert!(made > 0 && never > 0, "{made} made, {never} not");
    });
}

#[test]
fn the_end_of_its_control_group_does_not_end_the_way_back() {
    sealed_with_hooks(
        "way_back::the_end_of_its_control_group_does_not_end_the_way_back",
        || {
            let desk = Desk::with(INHERITED);
            on_sluice(&desk, &["enforce", "--keep"]).exits(0);
            desk.write(MENDED);
            // A session's group, ended with all that is in it, as service managers do.
            let group = std::path::Path::new("/sys/fs/cgroup/session");
            fs::create_dir(group).expect("a group");
            let program = env!("CARGO_BIN_EXE_tipstaff");
            let script = format!(
                "echo 0 >{}/cgroup.procs; '{program}' --host sluice enforce --confirm-within 2; \
                 sleep 600",
                group.display()
            );
            let plain = desk.command(["show"]);
            let mut shell = std::process::Command::new("/bin/sh");
            shell.args(["-c", &script]).current_dir(desk.path());
            shell.envs(plain.get_envs().filter_map(|(key, value)| Some((key, value?))));
            shell.env("PATH", "/usr/bin:/bin").stdin(Stdio::null()).stdout(Stdio::null());
            let mut shell = shell.spawn().expect("it starts");
            soon(Duration::from_secs(10), || holds(MENDED));
            let begun = Instant::now();
            fs::write(group.join("cgroup.kill"), "1").expect("killed");
            shell.wait().expect("ended");
            goes_back(begun, 2);
            soon(Duration::from_secs(2), || fs::remove_dir(group).is_ok());
        },
        || println!("who may make no groups stays in the one that he is in"),
    );
}

#[test]
fn what_is_confirmed_is_what_is_there() {
    sealed("way_back::what_is_confirmed_is_what_is_there", || {
        // Taken out by somebody.
        let desk = Desk::with(INHERITED);
        waiting(&desk, 60);
        let mut batch = nf::Batch::begin(1);
        batch.delete_table(TABLE);
        give(batch);
        let refused = desk.run(["confirm"]).exits(1);
        assert!(refused.stderr.contains("somebody has taken it out"), "{}", refused.stderr);
        assert!(refused.stderr.contains("goes back by itself in"), "{}", refused.stderr);
        desk.run(["revert"]).exits(0);
        assert!(holds(INHERITED));
        // Changed by somebody.
        desk.write(MENDED);
        on_sluice(&desk, &["enforce", "--confirm-within", "60"]).exits(0);
        let mut batch = nf::Batch::begin(1);
        batch.new_rule(&nf::Rule {
            table: TABLE.into(),
            chain: "inbound".into(),
            expressions: vec![nf::Expression::Immediate(nf::Verdict::Accept)],
            ..nf::Rule::default()
        });
        give(batch);
        let refused = desk.run(["confirm"]).exits(1);
        assert!(refused.stderr.contains("somebody has changed it"), "{}", refused.stderr);
        desk.run(["revert"]).exits(0);
        // Its time is over, and nobody saw to it.
        on_sluice(&desk, &["enforce", "--confirm-within", "1"]).exits(0);
        std::thread::sleep(Duration::from_millis(1_500));
        let refused = desk.run(["confirm"]);
        assert_ne!(refused.code, 0, "{}", refused.stdout);
        assert!(holds(INHERITED));
    });
}

#[test]
fn a_session_older_than_the_change_proves_nothing() {
    sealed("way_back::a_session_older_than_the_change_proves_nothing", || {
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        let program = env!("CARGO_BIN_EXE_tipstaff");
        let plain = desk.command(["show"]);
        let shell = |script: &str| {
            let mut shell = std::process::Command::new("/bin/sh");
            shell.args(["-c", script]).current_dir(desk.path()).stdin(Stdio::null());
            shell.envs(plain.get_envs().filter_map(|(key, value)| Some((key, value?))));
            shell.env("PATH", "/usr/bin:/bin");
            shell.env("SSH_CONNECTION", "198.51.100.7 50000 192.0.2.10 2202");
            crate::harness::finish(shell).exits(0).stdout
        };
        desk.write(MENDED);
        let said = shell(&format!(
            "sleep 0.1; '{program}' --host sluice enforce >/dev/null; '{program}' confirm"
        ));
        assert!(said.contains("this session is older than the change"), "{said}");
        desk.write(INHERITED);
        on_sluice(&desk, &["enforce"]).exits(0);
        std::thread::sleep(Duration::from_millis(50));
        let said = shell(&format!("'{program}' confirm"));
        assert!(!said.contains("older"), "{said}");
    });
}

#[test]
fn every_namespace_has_its_own_docket() {
    sealed("way_back::every_namespace_has_its_own_docket", || {
        let desk = Desk::with(INHERITED);
        let lab = street_sluice_granary();
        let (sluice, granary) = (lab.node("sluice").expect("it"), lab.node("granary").expect("it"));
        let on =
            |node, host: &str, args: &[&str]| desk.on(node, ["--host", host].iter().chain(args));
        on(sluice, "sluice", &["enforce", "--keep"]).exits(0);
        desk.write(MENDED);
        on(sluice, "sluice", &["enforce", "--confirm-within", "2"]).exits(0);
        // Meanwhile another machine of the same policy is given its rules: nothing waits there.
        on(granary, "granary", &["enforce", "--keep"]).exits(0);
        let begun = Instant::now();
        soon(Duration::from_secs(4), || sluice.run(|| holds(INHERITED)).expect("run"));
        assert!(begun.elapsed() < Duration::from_secs(5));
        let status = on(granary, "granary", &["--format", "json", "status"]).exits(0).json();
        assert_eq!(status["equal"], true);
        let list = on(granary, "granary", &["--format", "json", "docket"]).exits(0).json();
        assert_eq!(list["entries"].as_array().map(Vec::len), Some(1));
        // What is confirmed here is no business of the other's.
        let nothing = on(granary, "granary", &["confirm"]).exits(2);
        assert!(nothing.stderr.contains("nothing waits"), "{}", nothing.stderr);
    });
}

#[test]
fn a_damaged_docket_is_said_and_mended() {
    sealed("way_back::a_damaged_docket_is_said_and_mended", || {
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        desk.write(MENDED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        let file = desk.kept().join("docket.jsonl");
        let whole = fs::read_to_string(&file).expect("text");
        // A flipped digit is noticed: it does not become another entry.
        fs::write(&file, whole.replacen("\"id\":2", "\"id\":3", 1)).expect("damaged");
        let status = on_sluice(&desk, &["status"]).exits(1).stdout;
        assert!(status.contains("line 3 of the docket is not what it was"), "{status}");
        desk.write(INHERITED);
        let refused = on_sluice(&desk, &["enforce", "--keep"]).exits(3);
        assert!(refused.stderr.contains("line 3 of docket.jsonl"), "{}", refused.stderr);
        assert!(refused.stderr.contains("tipstaff docket mend"), "{}", refused.stderr);
        assert!(holds(MENDED), "nothing was changed");
        let said = desk.run(["docket", "mend"]).exits(1).stdout;
        assert!(said.starts_with("mended:") && said.contains("line 3"), "{said}");
        assert!(desk.run(["docket", "mend"]).exits(0).stdout.starts_with("whole:"));
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        assert!(holds(INHERITED));
        // A torn line counts as not written.
        let whole = fs::read_to_string(&file).expect("text");
        fs::write(&file, format!("{whole}{{\"id\":9,\"time\":\"20")).expect("torn");
        desk.write(MENDED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        assert!(holds(MENDED));
        // Lines of before there were sums are understood.
        let old: String = fs::read_to_string(&file)
            .expect("text")
            .lines()
            .map(|line| {
                let (body, _) = line.rsplit_once(",\"sum\"").expect("a sum");
                format!("{body}}}\n")
            })
            .collect();
        fs::write(&file, old).expect("written");
        assert!(desk.run(["docket", "mend"]).exits(0).stdout.starts_with("whole:"));
    });
}
