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
