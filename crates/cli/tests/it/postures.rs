//! Postures of the policy: taken, left, over by themselves; whoever is killed.

use crate::harness::Outcome;
use crate::remembering::World;
use serde_json::Value;
use std::fs;
use std::net::{TcpListener, TcpStream};
use std::process::{Child, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

pub const POLICY: &str = "edition = 1\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"shell\"\nallow = [\"2202/tcp\"]\n\
    [host.sluice.posture.showing]\nwhy = \"Visitors see the catalogue\"\n\
    [[host.sluice.posture.showing.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n\
    [host.sluice.posture.sealed]\ninstead = true\n\
    [[host.sluice.posture.sealed.rule]]\nname = \"curators\"\nallow = [\"2202/tcp\"]\n\
    from = [\"10.44.8.0/24\"]\n";
const AT_ONCE: Duration = Duration::from_secs(1);

fn serve(world: &World, port: u16) -> TcpListener {
    let bound = world.node("sluice").run(move || TcpListener::bind(("::", port)));
    bound.expect("entered").expect("bound")
}

fn visitor(world: &World) -> bool {
    world.knock("203.0.113.9", "192.0.2.10:443")
}

/// Whether visitors come in within the twinkling of an eye.
fn glimpse(world: &World) -> bool {
    let shop = "192.0.2.10:443".parse().expect("an address");
    let tried = world
        .node("street")
        .run(move || TcpStream::connect_timeout(&shop, Duration::from_millis(400)).is_ok());
    tried.expect("entered")
}

/// How long it takes until visitors come in no more. One that is lost on a busy machine does not count.
fn until_shut(world: &World) -> Duration {
    let began = Instant::now();
    loop {
        let at = began.elapsed();
        if !glimpse(world) && !glimpse(world) {
            return at;
        }
        assert!(at < Duration::from_secs(30), "it does not end");
        // Nobody takes these in: too many would be turned away by the listener.
        sleep(Duration::from_millis(100));
    }
}

fn docket(world: &World) -> Vec<(String, String)> {
    let told = world.run(&["docket", "--format", "json"]).exits(0).json();
    let one = |it: &Value| {
        let text = |key: &str| it[key].as_str().unwrap_or_default().to_owned();
        (text("kind"), text("state"))
    };
    told["entries"].as_array().expect("a list").iter().map(one).collect()
}

/// The processes that see a posture out, by their command line.
pub fn those_who_see_it_out(state: &str) -> Vec<String> {
    let mut found = Vec::new();
    for entry in fs::read_dir("/proc").expect("read").flatten() {
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let line = String::from_utf8_lossy(&line).replace('\0', " ");
        if line.contains("see-out") && line.contains(state) {
            found.push(entry.file_name().to_string_lossy().into_owned());
        }
    }
    found
}

pub fn kill(pid: &str) {
    let pid = rustix::process::Pid::from_raw(pid.parse().expect("a number")).expect("one");
    let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
}

#[test]
fn a_posture_is_taken_and_left_and_ends_what_only_it_admitted() {
    sealed("postures::a_posture_is_taken_and_left_and_ends_what_only_it_admitted", || {
        let world = World::with(POLICY);
        world.enforce();
        let (shop, shell) = (serve(&world, 443), serve(&world, 2202));
        assert!(!visitor(&world));
        let dry = world.run(&["posture", "take", "showing", "--dry-run"]).exits(0).stdout;
        assert!(dry.contains("would take showing") && dry.contains("443/tcp"), "{dry}");
        assert!(!visitor(&world));

        let words = ["posture", "take", "showing", "--keep", "--why", "open  day"];
        let told = world.run(&words).exits(0).stdout;
        for part in ["posture: showing, since", "why: open day", "opens", "443/tcp"] {
            assert!(told.contains(part), "{part}: {told}");
        }
        assert!(visitor(&world));
        drop(shop.accept().expect("accepted"));
        let status = world.run(&["status", "--format", "json"]).exits(0).json();
        assert_eq!((&status["equal"], &status["same_form"]), (&true.into(), &true.into()));
        assert_eq!(status["posture"]["posture"], "showing");
        assert_eq!(status["posture"]["why"], "open day");
        // What is enforced, and who is turned away, is so within the posture.
        world.run(&["enforce", "--keep"]).exits(0);
        world.run(&["turn-away", "203.0.113.66", "--keep"]).exits(0);
        assert!(visitor(&world) && !world.knock("203.0.113.66", "192.0.2.10:443"));
        drop(shop.accept().expect("accepted"));
        let shown = world.run(&["posture", "--format", "json"]).exits(0).json();
        let known = &shown["postures"];
        assert_eq!((&known[0]["name"], &known[0]["in_force"]), (&"showing".into(), &true.into()));
        assert_eq!((&known[1]["instead"], &known[1]["in_force"]), (&true.into(), &false.into()));

        // Only what the posture alone admitted ends.
        let visit = world.open("203.0.113.9", "192.0.2.10:443").expect("connected");
        let stays = world.open("203.0.113.9", "192.0.2.10:2202").expect("connected");
        let (visited, served) =
            (shop.accept().expect("accepted"), shell.accept().expect("accepted"));
        let left = world.run(&["posture", "leave", "--keep"]).exits(0).stdout;
        assert!(left.contains("left: showing") && left.contains("ended"), "{left}");
        assert!(!left.contains("2202/tcp"), "{left}");
        assert!(!visitor(&world));
        assert!(ended(&visited.0) && !ended(&served.0));
        drop((visit, stays));
        let kinds: Vec<String> = docket(&world).into_iter().map(|it| it.0).collect();
        assert_eq!(kinds, ["enforce", "take", "enforce", "leave"]);
        world.run(&["status"]).exits(0);
        let again = world.run(&["posture", "leave", "--format", "json"]).exits(0).json();
        assert_eq!((&again["done"], &again["posture"]), (&"nothing-to-leave".into(), &Value::Null));

        // Or goes on, if that is wished.
        world.run(&["posture", "take", "showing", "--keep"]).exits(0);
        let visit = world.open("203.0.113.9", "192.0.2.10:443").expect("connected");
        let visited = shop.accept().expect("accepted");
        world.run(&["posture", "leave", "--keep", "--let-live"]).exits(0);
        assert!(!ended(&visited.0));
        drop(visit);
    });
}

/// Whether a socket has been ended on this side.
fn ended(socket: &TcpStream) -> bool {
    socket.take_error().expect("asked").is_some() || socket.peer_addr().is_err()
}

#[test]
fn what_is_not_confirmed_goes_back_to_the_posture_before() {
    sealed("postures::what_is_not_confirmed_goes_back_to_the_posture_before", || {
        let world = World::with(POLICY);
        world.enforce();
        let _shop = serve(&world, 443);
        let _shell = serve(&world, 2202);
        world.run(&["posture", "take", "showing", "--confirm-within", "6"]).exits(0);
        assert!(visitor(&world));
        until_shut(&world);
        let shown = world.run(&["posture", "--format", "json"]).exits(0).json();
        assert_eq!(shown["posture"], Value::Null);

        world.run(&["posture", "take", "showing", "--confirm-within", "60"]).exits(0);
        world.run(&["confirm"]).exits(0);
        world.run(&["posture", "leave", "--confirm-within", "6"]).exits(0);
        assert!(!glimpse(&world));
        let began = Instant::now();
        while !visitor(&world) {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not go back");
            sleep(Duration::from_millis(50));
        }
        let shown = world.run(&["posture", "--format", "json"]).exits(0).json();
        assert_eq!(shown["posture"], "showing");
        // Into the other one at once; and back in one step.
        world.run(&["posture", "take", "sealed", "--keep"]).exits(0);
        assert!(!visitor(&world) && !world.knock("203.0.113.9", "192.0.2.10:2202"));
        world.run(&["posture", "leave", "--keep"]).exits(0);
        assert!(!visitor(&world) && world.knock("203.0.113.9", "192.0.2.10:2202"));
    });
}

/// The kernel ends it by its own clock, with nobody there; the next command writes that down, and ends what lives on.
#[test]
fn a_posture_with_an_end_is_over_though_all_are_killed() {
    sealed("postures::a_posture_with_an_end_is_over_though_all_are_killed", || {
        let world = World::with(POLICY);
        world.enforce();
        let shop = serve(&world, 443);
        let state = world.desk.state().display().to_string();
        let began = Instant::now();
        let told = world.run(&["posture", "take", "showing", "--for", "3s"]).exits(0).stdout;
        assert!(told.contains("until 20") && !told.contains("not kept yet"), "{told}");
        let [one] = &those_who_see_it_out(&state)[..] else { panic!("one sees it out") };
        kill(one);
        assert!(visitor(&world));
        drop(shop.accept().expect("accepted"));
        let visit = world.open("203.0.113.9", "192.0.2.10:443").expect("connected");
        let visited = shop.accept().expect("accepted");
        until_shut(&world);
        let lasted = began.elapsed();
        assert!(lasted >= Duration::from_secs(3) && lasted < Duration::from_secs(9), "{lasted:?}");
        assert!(!ended(&visited.0), "nobody was there to end it");
        world.run(&["posture"]).exits(0);
        let kinds: Vec<String> = docket(&world).into_iter().map(|it| it.0).collect();
        assert_eq!(kinds, ["enforce", "take", "leave"]);
        assert!(ended(&visited.0), "it is ended as soon as somebody looks");
        drop(visit);
        let status = world.run(&["status", "--format", "json"]).exits(0).json();
        assert_eq!((&status["equal"], &status["same_form"]), (&true.into(), &true.into()));
        assert_eq!(status["posture"], Value::Null);

        // With nobody killed it is written down by itself, and at once.
        world.run(&["posture", "take", "showing", "--for", "2s"]).exits(0);
        let visit = world.open("203.0.113.9", "192.0.2.10:443").expect("connected");
        let visited = shop.accept().expect("accepted");
        until_shut(&world);
        let began = Instant::now();
        while !ended(&visited.0) || !those_who_see_it_out(&state).is_empty() {
            assert!(began.elapsed() < Duration::from_secs(20), "nobody ends it");
            sleep(Duration::from_millis(50));
        }
        drop(visit);
        let kinds: Vec<String> = docket(&world).into_iter().map(|it| it.0).collect();
        assert_eq!(kinds, ["enforce", "take", "leave", "take", "leave"]);
    });
}

/// Starts `posture take showing --while …` in a session of its own.
fn begin(world: &World, command: &[&str]) -> Child {
    let words = ["posture", "take", "showing", "--while"].iter().chain(command);
    let mut tipstaff = world.desk.command(["--host", "sluice"].iter().chain(words));
    tipstaff.stdout(Stdio::null()).stderr(Stdio::null());
    world.node("sluice").start_here(&mut tipstaff).expect("it can start there");
    let child = tipstaff.spawn().expect("started");
    let began = Instant::now();
    while !visitor(world) {
        assert!(began.elapsed() < Duration::from_secs(60), "it is not taken");
        sleep(Duration::from_millis(20));
    }
    child
}

/// The child of a process.
fn child_of(pid: u32) -> String {
    let path = format!("/proc/{pid}/task/{pid}/children");
    let began = Instant::now();
    loop {
        let children = fs::read_to_string(&path).unwrap_or_default();
        // Whoever sees the posture out was started by it, too.
        let it = children.split_whitespace().find(|it| {
            fs::read_to_string(format!("/proc/{it}/comm")).is_ok_and(|name| name.trim() == "sleep")
        });
        if let Some(it) = it {
            return it.to_owned();
        }
        assert!(began.elapsed() < Duration::from_secs(60), "no child: {children}");
        sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_posture_ends_with_its_command_whoever_is_killed() {
    sealed("postures::a_posture_ends_with_its_command_whoever_is_killed", || {
        let world = World::with(POLICY);
        world.enforce();
        let _shop = serve(&world, 443);
        let state = world.desk.state().display().to_string();
        let over = |what: &str| {
            let took = until_shut(&world);
            assert!(took < AT_ONCE, "{what}: {took:?}");
            let began = Instant::now();
            while docket(&world).last().is_none_or(|it| it != &("leave".into(), "confirmed".into()))
            {
                assert!(began.elapsed() < Duration::from_secs(60), "{what}: not written down");
                sleep(Duration::from_millis(50));
            }
            world.run(&["status"]).exits(0);
        };
        // It ends by itself.
        let mut tipstaff = begin(&world, &["sleep", "1"]);
        assert_eq!(tipstaff.wait().expect("ended").code(), Some(0));
        over("the command has ended");
        // The command is killed.
        let mut tipstaff = begin(&world, &["sleep", "1000"]);
        kill(&child_of(tipstaff.id()));
        over("the command was killed");
        assert_eq!(tipstaff.wait().expect("ended").code(), Some(1));
        // This program is.
        let mut tipstaff = begin(&world, &["sleep", "1000"]);
        let command = child_of(tipstaff.id());
        tipstaff.kill().expect("killed");
        tipstaff.wait().expect("ended");
        over("it was killed itself");
        kill(&command);
        // All of it, as when a terminal is closed.
        let mut tipstaff = begin(&world, &["sleep", "1000"]);
        kill(&child_of(tipstaff.id()));
        tipstaff.kill().expect("killed");
        tipstaff.wait().expect("ended");
        over("all were killed");
        // And who sees it out: the command it is that ends it.
        let mut tipstaff = begin(&world, &["sleep", "2"]);
        let [one] = &those_who_see_it_out(&state)[..] else { panic!("one sees it out") };
        kill(one);
        assert_eq!(tipstaff.wait().expect("ended").code(), Some(0));
        over("the command has ended");
        // A command that is not there changes nothing for long.
        let words = ["posture", "take", "showing", "--while", "/nowhere/at/all"];
        let refused = world.run(&words);
        assert_eq!(refused.code, 3, "{}", refused.stderr);
        assert!(refused.stderr.contains("cannot run"), "{}", refused.stderr);
        over("it could not be run");
    });
}

/// Nobody takes the place of what a command relies on unasked; and a command ends no more than what was taken for it.
#[test]
fn a_command_ends_only_what_was_taken_for_it() {
    sealed("postures::a_command_ends_only_what_was_taken_for_it", || {
        let world = World::with(POLICY);
        world.enforce();
        let _shop = serve(&world, 443);
        let _shell = serve(&world, 2202);
        let posture = || {
            let told = world.run(&["posture", "--format", "json"]).exits(0).json();
            told["posture"].as_str().unwrap_or_default().to_owned()
        };
        let mut tipstaff = begin(&world, &["sleep", "1000"]);
        for words in [&["sealed", "--keep"], &["showing", "--for=1h"], &["sealed", "--dry-run"]] {
            let refused = world.run(&[&["posture", "take"], &words[..]].concat());
            assert_eq!(refused.code, 1, "{words:?}: {}", refused.stderr);
            let told = format!("in force while process {} runs", tipstaff.id());
            assert!(refused.stderr.contains(&told), "{}", refused.stderr);
        }
        assert!(visitor(&world) && posture() == "showing");
        // Left by hand, and another one taken, which outlasts the command.
        world.run(&["posture", "leave", "--keep"]).exits(0);
        world.run(&["posture", "take", "sealed", "--keep"]).exits(0);
        kill(&child_of(tipstaff.id()));
        assert_eq!(tipstaff.wait().expect("ended").code(), Some(1));
        assert_eq!(posture(), "sealed");
        assert!(!world.knock("203.0.113.9", "192.0.2.10:2202"));
        world.run(&["status"]).exits(0);
        world.run(&["posture", "leave", "--keep"]).exits(0);
        // A door that was shut meanwhile stays so, and the posture behind it is left.
        let mut tipstaff = begin(&world, &["sleep", "1000"]);
        world.run(&["shut", "--even-if-locked-out"]).exits(0);
        kill(&child_of(tipstaff.id()));
        assert_eq!(tipstaff.wait().expect("ended").code(), Some(1));
        assert_eq!(posture(), "shut");
        assert!(!world.knock("203.0.113.9", "192.0.2.10:2202"));
        let opened = world.run(&["posture", "leave"]).exits(0).stdout;
        assert!(opened.contains("the policy's own rules hold, as before"), "{opened}");
        assert!(!visitor(&world) && world.knock("203.0.113.9", "192.0.2.10:2202"));
        // What would have no effect is refused.
        for words in [&["--keep"], &["--confirm-within=5"]] {
            let refused = world.run(&[&["posture", "take", "shut"], &words[..]].concat());
            assert_eq!(refused.code, 2, "{words:?}");
            assert!(refused.stderr.contains("no confirmation"), "{}", refused.stderr);
        }
        assert_eq!(posture(), "");
    });
}

#[test]
fn nothing_is_taken_that_would_lock_out_or_bring_other_changes() {
    sealed("postures::nothing_is_taken_that_would_lock_out_or_bring_other_changes", || {
        let world = World::with(POLICY);
        world.enforce();
        let _shop = serve(&world, 443);
        let shell = serve(&world, 2202);
        let session = world.open("203.0.113.9", "192.0.2.10:2202").expect("connected");
        let _served = shell.accept().expect("accepted");
        let ends =
            format!("203.0.113.9 {} 192.0.2.10 2202", session.local_addr().expect("it").port());
        let refused = world.run_in_session(&ends, &["posture", "take", "sealed", "--for", "1h"]);
        assert_eq!(refused.code, 1, "{}", refused.stderr);
        assert!(refused.stderr.contains("lock you out"), "{}", refused.stderr);
        assert_eq!(docket(&world).len(), 1);
        assert!(those_who_see_it_out(&world.desk.state().display().to_string()).is_empty());
        drop(session);

        world.desk.write(format!(
            "{POLICY}[[host.sluice.rule]]\nname = \"mail\"\nallow = [\"25/tcp\"]\n"
        ));
        let refused = world.run(&["posture", "take", "showing", "--keep"]);
        assert_eq!(refused.code, 1, "{}", refused.stderr);
        assert!(refused.stderr.contains("changes that are not in force"), "{}", refused.stderr);
        assert!(!visitor(&world));
        // One that is only written now can be taken.
        let written = POLICY.replace("posture.showing", "posture.open-day");
        world.desk.write(&written);
        world.run(&["posture", "take", "open-day", "--keep"]).exits(0);
        assert!(visitor(&world));
        // The policy loses it: nothing is enforced by guess, and it can be left all the same.
        world.desk.write(POLICY);
        let refused = world.run(&["enforce", "--keep"]);
        assert_eq!(refused.code, 1, "{}", refused.stderr);
        assert!(refused.stderr.contains("has it no more"), "{}", refused.stderr);
        assert!(visitor(&world));
        world.run(&["status"]).exits(1);
        world.run(&["posture", "leave", "--keep"]).exits(0);
        assert!(!visitor(&world));
        // What is no posture is said so.
        for (words, told) in [
            (&["posture", "take", "showign"][..], "did you mean `showing`"),
            (&["review", "--posture", "showign"], "did you mean `showing`"),
            (&["compare", "--posture", "none", "--posture", "sealled"], "did you mean `sealed`"),
            (&["posture", "take", "showing", "--all"], "about `shut` only"),
            (&["posture", "take", "showing", "--for", "0"], "a second to 366 days"),
        ] {
            let refused: Outcome = world.run(words);
            assert_eq!(refused.code, 2, "{words:?}: {}", refused.stderr);
            assert!(refused.stderr.contains(told), "{words:?}: {}", refused.stderr);
        }
    });
}
