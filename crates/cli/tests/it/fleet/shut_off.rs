//! A policy that shuts hosts off from what carries the next.

use super::world::{HOSTS, World};
use crate::harness::{INHERITED, MENDED};
use std::fs;
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
        // The carrier can be read, and no word be left there any more.
        world.office.seals(MENDED);
        let hosts = world.office.path("carrier/hosts");
        let aside = world.office.path("carrier/aside");
        fs::rename(&hosts, &aside).expect("moved");
        fs::write(&hosts, "").expect("in its place");
        let take = || world.on("sluice", &["fleet", "take", "--format", "json"]);
        world.office.fleet(&["roll-out", "--patience", "0s"]);
        world.order(9, 2, &["sluice"]);
        let back = take().exits(1).json();
        assert_eq!(back["refused"]["code"], "went-back", "{back}");
        world.in_force("sluice");
        let policy = fs::read_to_string(world.policy("sluice").join("policy.toml"));
        assert_eq!(policy.expect("its policy"), INHERITED);
        // The same order does not shut it off once more; another one, or somebody who asks for it, may.
        fs::remove_file(&hosts).expect("removed");
        fs::rename(&aside, &hosts).expect("moved");
        assert_eq!(take().exits(1).json()["refused"]["code"], "went-back");
        world.on("sluice", &["fleet", "take", "--again"]).exits(0);
        world.until("sluice", "well", 2);
    });
}
