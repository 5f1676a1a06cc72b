//! Places that change: their files are read anew, held against what they said, and put in force.

use crate::harness::Desk;
use crate::remembering::World;
use serde_json::Value;
use std::fs;
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::Stdio;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [place.street]\nfile = \"street.txt\"\nexcept = [\"203.0.113.200\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"not-them\"\ndeny = [\"any\"]\nfrom = [\"street\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\", \"2202/tcp\"]\n";

/// So many single addresses that do not touch, from this one on.
fn lines(first: u32, count: u32) -> String {
    (0..count).map(|it| format!("198.18.{}.{}\n", first + it / 100, it % 100 * 2)).collect()
}

impl Desk {
    pub fn put(&self, name: &str, text: impl AsRef<[u8]>) {
        let file = self.path().join(name);
        fs::write(&file, text).expect("written");
        fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).expect("a mode");
    }

    fn refreshed(&self, words: &[&str], code: i32) -> Value {
        let all = ["place", "refresh", "--format", "json"];
        self.run(all.iter().chain(words)).exits(code).json()
    }

    pub fn snapshot(&self, place: &str) -> Option<String> {
        fs::read_to_string(self.path().join(format!("policy.places/{place}.snapshot"))).ok()
    }
}

#[test]
fn what_a_place_holds_is_not_known_before_its_files_are_read() {
    let desk = Desk::with(POLICY);
    desk.put("street.txt", "203.0.113.0/24\n");
    for words in [&["show"][..], &["review"], &["enforce", "--keep"], &["ask", "--who", "443/tcp"]]
    {
        let told = desk.run(words).exits(2).stderr;
        assert!(told.contains("not-read-yet") && told.contains("place refresh street"), "{told}");
    }
    let told = desk.run(["place", "refresh", "--dry-run"]).exits(0).stdout;
    assert!(
        told.contains("nothing was kept or changed") && desk.snapshot("street").is_none(),
        "{told}"
    );
    let told = desk.refreshed(&[], 0);
    assert_eq!(
        (&told["places"][0]["done"], &told["places"][0]["came"]),
        (&"new".into(), &1.into())
    );
    desk.run(["ask", "--from", "203.0.113.200", "--traffic", "443/tcp"]).exits(0);
    let again = desk.refreshed(&["street"], 0);
    assert_eq!(again["places"][0]["done"], "same");
    let listed = desk.run(["place", "list"]).exits(0).stdout;
    assert!(
        listed.contains("from file \"street.txt\"") && listed.contains("1 came, 0 went"),
        "{listed}"
    );

    // Other files are not what was read.
    let told = desk.run(["place", "change", "street", "--from-file", "other.txt"]).exits(0).stdout;
    assert!(told.contains("What `street` holds is not known yet"), "{told}");
    desk.run(["show"]).exits(2);
    desk.run(["undo"]).exits(0);
    desk.run(["show"]).exits(0);
    for (words, why) in [
        (&["nobody"][..], "there is no place `nobody`"),
        (&["street", "--although", "tired"], "invalid value 'tired'"),
    ] {
        let told = desk.run(["place", "refresh"].iter().chain(words)).exits(2).stderr;
        assert!(told.contains(why), "{told}");
    }
}

/// Whatever a feed says that cannot be meant: nothing changes, and it is said why.
#[test]
fn what_cannot_be_meant_changes_nothing() {
    let desk = Desk::with(POLICY);
    desk.put("street.txt", lines(0, 200));
    desk.refreshed(&[], 0);
    let before = desk.snapshot("street").expect("kept");
    let shown = desk.run(["show", "--format", "json"]).exits(0).stdout;
    let cut = lines(0, 200);
    let zeros = vec![0; 1024];
    let packed = [0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 3, 0xed, 0xc1];
    let large = "# nothing\n".repeat(7 * 1024 * 1024);
    let (half, twice) = (lines(0, 99), lines(0, 400));
    let wider = format!("{}10.0.0.0/8\n", lines(0, 200));
    let wrongs: [(&[u8], &str); 12] = [
        (b"", "there is no address in it"),
        (b"# all gone\n", "there is no address in it"),
        (&cut.as_bytes()[..cut.len() - 3], "the file may be cut off"),
        (half.as_bytes(), "less than half of what it had: 99 ranges, not 200"),
        (twice.as_bytes(), "twice as much as it had, or more: 400 ranges, not 200"),
        (b"0.0.0.0/0\n", "more than half of all IPv4 addresses"),
        (b"::/1\n8000::/1\n", "more than half of all IPv6 addresses"),
        (b"<!doctype html>\n<title>Log in</title>\n", "line 1 says `<!doctype html>`"),
        (&zeros, "which is no address"),
        (&packed, "is no text: byte 1 cannot be read as UTF-8"),
        (large.as_bytes(), "is larger than 64 MiB"),
        (wider.as_bytes(), "IPv4 addresses, not 200"),
    ];
    for (text, why) in wrongs {
        desk.put("street.txt", text);
        let told = desk.refreshed(&[], 1);
        let place = &told["places"][0];
        let reasons = place["why"].to_string();
        assert!(place["done"] == "refused" && reasons.contains(why), "{why}: {reasons}");
        assert_eq!(desk.snapshot("street").as_ref(), Some(&before), "{why}");
        assert_eq!(desk.run(["show", "--format", "json"]).exits(0).stdout, shown, "{why}");
    }
    // What stands there is no list at all.
    let file = desk.path().join("street.txt");
    let refused = |why: &str| {
        let told = desk.refreshed(&[], 1)["places"][0]["why"].to_string();
        assert!(told.contains(why), "{why}: {told}");
    };
    fs::remove_file(&file).expect("removed");
    refused("cannot be read: No such file");
    fs::create_dir(&file).expect("made");
    refused("is no plain file");
    fs::remove_dir(&file).expect("removed");
    rustix::fs::mknodat(rustix::fs::CWD, &file, rustix::fs::FileType::Fifo, 0o644.into(), 0)
        .expect("a pipe");
    refused("is no plain file");
    fs::remove_file(&file).expect("removed");
    std::os::unix::fs::symlink("/dev/zero", &file).expect("linked");
    refused("is no plain file");
    fs::remove_file(&file).expect("removed");
    desk.put("street.txt", lines(0, 210));
    fs::set_permissions(&file, fs::Permissions::from_mode(0o666)).expect("a mode");
    refused("others may write");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).expect("a mode");
    // What is meant all the same is taken, once that is said.
    desk.put("street.txt", lines(0, 400));
    assert_eq!(desk.refreshed(&["--although", "grown"], 0)["places"][0]["came"], 200);
    desk.put("street.txt", lines(0, 20).trim_end());
    let told = desk.refreshed(&["--although", "shrunk"], 1);
    assert!(told.to_string().contains("cut off"), "{told}");
    let told = desk.refreshed(&["--although", "shrunk", "--although", "cut-off"], 0);
    assert_eq!(told["places"][0]["gone"], 380);
}

/// One that cannot be taken keeps no other from being taken.
#[test]
fn each_place_stands_for_itself() {
    let text = POLICY.replace(
        "[host.sluice]",
        "[place.mill]\nfile = \"mill.csv\"\ncolumn = \"net\"\n[host.sluice]",
    );
    let desk = Desk::with(text.replace("from = [\"street\"]", "from = [\"street\", \"mill\"]"));
    desk.put("street.txt", "203.0.113.0/24\n");
    desk.put("mill.csv", "name,net\nold,198.51.100.0/24\n");
    desk.refreshed(&[], 0);
    desk.put("street.txt", "0.0.0.0/0\n");
    desk.put("mill.csv", "name,net\nold,198.51.100.0/24\nnew,2001:db8:f::/48\n");
    let told = desk.refreshed(&[], 1);
    let done: Vec<_> =
        told["places"].as_array().expect("a list").iter().map(|it| it["done"].clone()).collect();
    assert_eq!(done, ["refused", "changed"]);
    let text = desk.run(["place", "refresh"]).exits(1).stdout;
    assert!(text.contains("not taken: street") && text.contains("--although everything"), "{text}");

    // What is kept and damaged is known as such, and read anew.
    let file = desk.path().join("policy.places/mill.snapshot");
    let kept = fs::read_to_string(&file).expect("kept");
    for damaged in [&kept[..kept.len() - 4], "", "lines: 3", &kept.replace("lines: 2", "lines: 3")]
    {
        fs::write(&file, damaged).expect("written");
        let told = desk.run(["show"]).exits(2).stderr;
        assert!(told.contains("damaged-snapshot") && told.contains("place refresh mill"), "{told}");
        desk.refreshed(&["mill"], 0);
        assert_eq!(fs::read_to_string(&file).expect("kept").lines().last(), kept.lines().last());
        desk.run(["show"]).exits(0);
    }
    // Marked as UTF-8, and with lines that end otherwise: the same.
    desk.put("mill.csv", "\u{feff}name,net\r\nold,198.51.100.0/24\r\nnew,2001:db8:f::/48\r\n");
    assert_eq!(desk.refreshed(&["mill"], 0)["places"][0]["done"], "same");
    // Where nothing can be written, nothing is changed.
    desk.put("mill.csv", "name,net\nold,198.51.100.0/24\n");
    fs::remove_dir_all(desk.path().join("policy.places")).expect("removed");
    fs::write(desk.path().join("policy.places"), "in the way").expect("written");
    let told = desk.run(["place", "refresh", "mill"]).exits(3).stderr;
    assert!(told.contains("nothing was changed") || told.contains("cannot"), "{told}");
}

fn counted(world: &World, rule: &str) -> u64 {
    let told = world.run(&["status", "--format", "json"]).exits(0).json();
    let rules = told["rules"].as_array().expect("a list").clone();
    let found = rules.iter().find(|it| it["name"] == rule).expect("the rule");
    found["packets"].as_u64().expect("a number")
}

#[test]
fn what_files_say_now_is_in_force_at_once() {
    sealed("places::what_files_say_now_is_in_force_at_once", || {
        let world = World::with(POLICY);
        let list = |text: &str| world.desk.put("street.txt", text);
        let refresh =
            |code| world.run(&["place", "refresh", "--format", "json"]).exits(code).json();
        let others = lines(0, 40);
        list(&format!("{others}203.0.113.9\n"));
        assert_eq!(refresh(0)["enforced"], Value::Null);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let knock = |from: &str| world.knock(from, "192.0.2.10:443");
        assert!(!knock("203.0.113.9") && knock("203.0.113.66"));
        let before = counted(&world, "not-them");
        assert!(before > 0);

        list(&format!("{others}203.0.113.66\n203.0.113.200\n"));
        let told = refresh(0);
        assert_eq!(
            (&told["enforced"]["done"], &told["places"][0]["came"]),
            (&"enforced".into(), &2.into())
        );
        assert!(knock("203.0.113.9") && !knock("203.0.113.66") && knock("203.0.113.200"));
        // The rules are the same rules, and go on counting.
        assert!(counted(&world, "not-them") > before);
        let status = world.run(&["status"]).exits(0).stdout;
        assert!(status.contains("Places from files") && status.contains("street"), "{status}");
        let docket = world.run(&["docket"]).exits(0).stdout;
        assert!(docket.contains("refresh (sluice)"), "{docket}");

        // The way back is that of any change.
        world.run(&["revert", "--keep"]).exits(0);
        assert!(!knock("203.0.113.9") && knock("203.0.113.66"));
        let told = world.run(&["status"]).exits(1).stdout;
        assert!(told.contains("differ"), "{told}");
        world.run(&["enforce", "--keep"]).exits(0);

        // What else is not in force would come along: so it does not go in force either, and that is said.
        world.run(&["rule", "add", "more", "--allow", "8080/tcp"]).exits(0);
        list(&others);
        let told = refresh(0);
        assert!(
            told["enforced"].is_null() && told["remarks"].to_string().contains("not in force"),
            "{told}"
        );
        assert!(!knock("203.0.113.66"));
        // Nor while something waits to be confirmed: it would stay with it.
        world.run(&["enforce"]).exits(0);
        list(&format!("{others}203.0.113.77\n"));
        let told = refresh(0);
        let remarks = told["remarks"].to_string();
        assert!(told["enforced"].is_null() && remarks.contains("waits to be confirmed"), "{told}");
        world.run(&["revert"]).exits(0);
        list(&others);
        refresh(0);
        world.run(&["undo"]).exits(0);
        // It was read before; now that nothing else would come along, it is put in force.
        let told = refresh(0);
        assert_eq!(
            (&told["places"][0]["done"], &told["enforced"]["done"]),
            (&"same".into(), &"enforced".into())
        );
        assert!(knock("203.0.113.66"));
        world.run(&["status"]).exits(0);
        assert!(refresh(0)["enforced"].is_null());
        // A boot needs none of the files.
        fs::remove_dir_all(world.desk.path().join("policy.places")).expect("removed");
        fs::remove_file(world.desk.path().join("street.txt")).expect("removed");
        world.run(&["release", "--keep"]).exits(0);
        world.run(&["revert", "--keep"]).exits(0);
        assert!(!knock("203.0.113.9") || knock("203.0.113.66"));
    });
}

/// Killed at any moment, it leaves the old or the new, and the next one goes on.
#[test]
fn whoever_is_killed_at_it_leaves_the_old_or_the_new() {
    sealed("places::whoever_is_killed_at_it_leaves_the_old_or_the_new", || {
        let world = World::with(POLICY);
        let all = [lines(0, 300), lines(40, 300)];
        let list = |at: usize| world.desk.put("street.txt", &all[at % 2]);
        list(0);
        world.run(&["place", "refresh"]).exits(0);
        world.enforce();
        for at in 1..16_u64 {
            list(usize::try_from(at).expect("few"));
            let mut command = world.desk.command(["--host", "sluice", "place", "refresh"]);
            world.node("sluice").start_here(&mut command).expect("it can start there");
            command.stdout(Stdio::null()).stderr(Stdio::null());
            let mut child = command.spawn().expect("it starts");
            sleep(Duration::from_millis(at * 4));
            child.kill().expect("killed");
            child.wait().expect("ended");
            world.run(&["show"]).exits(0);
            world.run(&["place", "refresh"]).exits(0);
            world.run(&["status"]).exits(0);
            let kept = world.desk.snapshot("street").expect("kept");
            let held: String = kept.split("\n\n").nth(1).expect("addresses").to_owned();
            assert_eq!(held.lines().count(), 300);
        }
        let left: Vec<_> = fs::read_dir(world.desk.path().join("policy.places"))
            .expect("read")
            .flatten()
            .collect();
        assert!(
            left.iter().any(|it| it.path().ends_with("street.snapshot")) && tidy(world.desk.path())
        );
    });
}

/// What a killed process left is hidden, and in nobody's way.
fn tidy(folder: &Path) -> bool {
    fs::read_dir(folder.join("policy.places")).expect("read").flatten().all(|it| {
        let name = it.file_name().to_string_lossy().into_owned();
        name == "street.snapshot" || name.starts_with('.')
    })
}

/// The example, as it stands.
#[test]
fn the_example_is_read_as_it_says() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let read = |name: &str| fs::read_to_string(demo.join(name)).expect("it is there");
    let desk = Desk::with(read("places.toml"));
    fs::create_dir(desk.path().join("lists")).expect("made");
    for name in ["lists/registry.txt", "lists/nuisance.txt", "lists/partners.csv"] {
        desk.put(name, read(name));
    }
    let told = desk.run(["place", "refresh"]).exits(0).stdout;
    insta::assert_snapshot!(told.lines().skip(4).collect::<Vec<_>>().join("\n"), @r"

    sluice
              traffic                 from where, to where    before              after
      opens   443/tcp                 from 10.44.8.30,        deny                allow
                                      198.51.100.0/24,        (default/inbound)   (catalogue)
                                      2001:db8:51::/48
      closes  icmp:echo-request       from nuisance           allow 5/second      deny
                                                              (baseline/ping)     (baseline/turned-away)
      closes  outbound everything     from anywhere to        allow               deny
              else                    nuisance                (default/outbound)  (baseline/turned-away)
      (16 small parts go with that; --in-full tells them)
    ");
    let told = desk.run(["ask", "--who", "443/tcp"]).exits(0).stdout;
    insta::assert_snapshot!(told, @r"
    sluice: what happens to 443/tcp, inbound

    allow by catalogue
      443/tcp from 10.44.8.30, 198.51.100.0/24, 2001:db8:51::/48

    deny by baseline/turned-away, default/inbound
      443/tcp from anywhere except curators, partners, here
    ");
    assert_eq!(desk.refreshed(&[], 0)["hosts"], serde_json::json!([]));
}

/// What waits to be confirmed goes back to what places held, whatever their files say by then.
#[test]
fn the_way_back_knows_what_places_held() {
    sealed("places::the_way_back_knows_what_places_held", || {
        let world = World::with(POLICY);
        let list = |text: &str| world.desk.put("street.txt", text);
        list("203.0.113.9\n");
        world.run(&["place", "refresh"]).exits(0);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let knock = |from: &str| world.knock(from, "192.0.2.10:443");
        world.run(&["rule", "change", "not-them", "--from", "203.0.113.66"]).exits(0);
        world.run(&["enforce", "--confirm-within", "8"]).exits(0);
        fs::remove_dir_all(world.desk.path().join("policy.places")).expect("removed");
        assert!(knock("203.0.113.9") && !knock("203.0.113.66"));
        let began = Instant::now();
        while knock("203.0.113.9") {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not go back");
            sleep(Duration::from_millis(100));
        }
        assert!(knock("203.0.113.66"));
        let docket = world.run(&["docket", "--format", "json"]).exits(0).json();
        let entries = docket["entries"].as_array().expect("a list");
        assert_eq!(entries.last().expect("some")["state"], "reverted");
    });
}
