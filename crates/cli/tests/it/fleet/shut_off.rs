//! A policy that shuts hosts off from what carries the next.

use super::world::{HOSTS, World};
use crate::harness::{INHERITED, MENDED};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use tipstaff_linux::lab::testing::sealed;

#[test]
fn who_does_not_reach_the_carrier_any_more_goes_back() {
    sealed("fleet::shut_off::who_does_not_reach_the_carrier_any_more_goes_back", || {
        let mut world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        for host in HOSTS {
            world.attend(host);
        }
        world.office.fleet(&["roll-out"]).exits(0);
        world.until("sluice", "well", 1);
        // From here on, it is taken by hand.
        HOSTS.iter().for_each(|it| world.end(it));
        // The carrier can be read, and no word be left there any more.
        world.office.seals(MENDED);
        let hosts = world.office.path("carrier/hosts");
        let mode =
            |mode| fs::set_permissions(&hosts, fs::Permissions::from_mode(mode)).expect("set");
        mode(0o555);
        let take = |world: &World| world.on("sluice", &["fleet", "take", "--format", "json"]);
        world.office.fleet(&["roll-out", "--patience", "0s"]);
        world.order(9, 2, &["sluice"]);
        let back = take(&world).exits(1).json();
        assert_eq!(back["refused"]["code"], "went-back", "{back}");
        world.in_force("sluice");
        let policy = fs::read_to_string(world.policy("sluice").join("policy.toml"));
        assert_eq!(policy.expect("its policy"), INHERITED);
        // The same order does not shut it off once more; another one, or somebody who asks for it, may.
        mode(0o755);
        assert_eq!(take(&world).exits(1).json()["refused"]["code"], "went-back");
        world.on("sluice", &["fleet", "take", "--again"]).exits(0);
        world.attend("sluice");
        world.until("sluice", "well", 2);
    });
}

/// Whoever has mended what kept a host from taking it goes on with the same command; one step is one step.
#[test]
fn what_was_stopped_goes_on_once_it_is_mended() {
    sealed("fleet::shut_off::what_was_stopped_goes_on_once_it_is_mended", || {
        let mut world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        for host in HOSTS {
            world.attend(host);
        }
        let one = world.office.fleet(&["roll-out", "--steps", "1", "--format", "json"]).exits(0);
        let one = one.json();
        assert_eq!(one["have"], serde_json::json!(["sluice"]), "{one}");
        assert_eq!(one["wait"], serde_json::json!(["granary", "bench"]), "{one}");
        // A policy that somebody had put there before.
        let own = world.policy("granary");
        fs::create_dir(&own).expect("a folder");
        fs::write(own.join("policy.toml"), INHERITED.replace("For now", "By hand"))
            .expect("written");
        let stopped = world.office.fleet(&["roll-out", "--format", "json"]).exits(1).json();
        assert_eq!(stopped["have_not"][0]["stands"], "changed-here", "{stopped}");
        fs::remove_dir_all(&own).expect("removed");
        let done = world.office.fleet(&["roll-out", "--format", "json"]).exits(0).json();
        assert_eq!(done["have"], serde_json::json!(HOSTS), "{done}");
    });
}
