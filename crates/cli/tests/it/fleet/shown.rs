//! How the state of a fleet is shown.

use super::world::World;
use crate::harness::INHERITED;
use std::io::{BufRead, BufReader};
use std::process::Stdio;
use tipstaff_linux::lab::testing::sealed;

#[test]
fn hosts_are_sorted_chosen_watched_and_put_on_a_page() {
    sealed("fleet::shown::hosts_are_sorted_chosen_watched_and_put_on_a_page", || {
        let mut world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        let hosts = |words: &[&str]| -> Vec<String> {
            let words = [&["status", "--format", "json"], words].concat();
            let found = world.office.fleet(&words).json();
            let hosts = found["hosts"].as_array().expect("hosts").iter();
            hosts.map(|it| it["host"].as_str().expect("a name").to_owned()).collect()
        };
        assert_eq!(hosts(&["--sort", "name"]), ["bench", "granary", "sluice"]);
        assert_eq!(hosts(&["--only", "waits"]).len(), 3);
        assert!(hosts(&["--only", "well", "went-back"]).is_empty());
        world.office.fleet(&["status", "--only", "wel"]).exits(2);
        // Somebody looks on, from a pipe: a line for what changes, at once the whole.
        let mut watch = world.office.command(&["status", "--watch", "1s"]);
        let mut watch = watch.stdout(Stdio::piped()).spawn().expect("it starts");
        let mut lines =
            BufReader::new(watch.stdout.take().expect("piped")).lines().map_while(Result::ok);
        let first = lines.find(|it| it.contains("3 waits"));
        assert!(first.is_some(), "the whole at first");
        world.attend("sluice");
        world.office.fleet(&["roll-out", "--steps", "1"]).exits(0);
        let changed = lines.find(|it| it.starts_with("sluice: well"));
        assert_eq!(changed.as_deref(), Some("sluice: well, has number 1"));
        watch.kill().expect("ended");
        watch.wait().expect("ended");
        world.order(9, 1, &["sluice", "granary"]);
        let page = world.office.fleet(&["status", "--format", "html"]).exits(1).stdout;
        assert!(page.starts_with("<!DOCTYPE html>"), "{page}");
        for word in ["Fleet tidewater", "never-heard", "1 well", "it has never said anything"] {
            assert!(page.contains(word), "{word} is missing: {page}");
        }
        assert!(!page.contains("http"), "the page needs something else: {page}");
        // A host that calls itself something wicked does not get into the page.
        let wicked = world.office.path("carrier/hosts/sluice.json");
        let said = std::fs::read_to_string(&wicked).expect("its word");
        std::fs::write(
            &wicked,
            said.replace("\"drift\": null", "\"drift\": \"<script>\"")
                .replace("\"in_force\": true", "\"in_force\": false"),
        )
        .expect("written");
        let page = world.office.fleet(&["status", "--format", "html"]).exits(1).stdout;
        assert!(page.contains("&lt;script&gt;") && !page.contains("<script>"), "{page}");
        world.office.fleet(&["status", "--watch", "--format", "html"]).exits(2);
    });
}
