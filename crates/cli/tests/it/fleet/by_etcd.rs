//! A real etcd as the carrier.

use super::stores::{Store, asked, at, compact};
use super::world::{HOSTS, World};
use crate::harness::{MENDED, finish};
use crate::servers::needed;
use serde_json::json;
use std::fs;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

/// The mended policy, in which the stacks may reach the store on granary.
fn with_store(more: &str) -> String {
    format!(
        "{MENDED}\n[[host.granary.rule]]\nname = \"store\"\nallow = [\"2379/tcp\"]\nfrom = [\"stacks\"]\n{more}"
    )
}

#[test]
fn etcd_carries_it_and_who_is_shut_off_from_it_goes_back() {
    sealed("fleet::by_etcd::etcd_carries_it_and_who_is_shut_off_from_it_goes_back", || {
        let (Some(program), Some(_)) = (needed("etcd"), needed("openssl")) else { return };
        let mut world = World::new(&with_store(""));
        let store = Store::on(&mut world, program, &[("granary", "10.44.8.20")]);
        store.answers(&world, "bench");
        at(&world, "bench", &["seal", "--key", "key"]).exits(0);
        for host in HOSTS {
            world.attend(host);
        }
        let steps = ["roll-out", "--steps", "1,100%", "--format", "json"];
        let done = at(&world, "bench", &steps).exits(0).json();
        assert_eq!(done["have"], serde_json::json!(HOSTS), "{done}");
        HOSTS.iter().for_each(|it| world.in_force(it));
        // One that no host could take back from there: sluice, the first, finds out, and nobody else takes it.
        world.office.desk.write(with_store(
            "[[host.sluice.rule]]\nname = \"no-store\"\ndeny = [\"2379/tcp\"]\ndirection = \"outbound\"\n\
             [[host.bench.rule]]\nname = \"no-store\"\ndeny = [\"2379/tcp\"]\ndirection = \"outbound\"\n",
        ));
        at(&world, "bench", &["seal", "--key", "key"]).exits(0);
        let stopped = at(&world, "bench", &steps).exits(1).json();
        assert_eq!(stopped["have"], serde_json::json!([]), "{stopped}");
        assert_eq!(stopped["have_not"][0]["host"], "sluice", "{stopped}");
        assert_eq!(stopped["have_not"][0]["stands"], "went-back", "{stopped}");
        assert_eq!(stopped["wait"], serde_json::json!(["granary", "bench"]), "{stopped}");
        HOSTS.iter().for_each(|it| world.in_force(it));
        // Without a certificate nobody learns anything; and where no store is, nothing is said to be none.
        let mut command = world.office.command(&["status"]);
        command.env_remove("TIPSTAFF_CARRIER_CERT").env_remove("TIPSTAFF_CARRIER_KEY");
        world.node("bench").start_here(&mut command).expect("it can start there");
        finish(command).exits(3);
        drop(store);
        let none = at(&world, "bench", &["status"]).exits(3).stderr;
        assert!(none.contains("cannot look in etcd"), "{none}");
        // What is in force does not depend on the store.
        HOSTS.iter().for_each(|it| world.in_force(it));
        assert!(fs::read_dir(world.policy("sluice")).expect("its policy").count() > 0);
    });
}

/// Hosts hear of what is new from the store itself, also after it has forgotten what was before, and a member was ended.
#[test]
fn etcd_tells_of_what_is_new_by_itself() {
    sealed("fleet::by_etcd::etcd_tells_of_what_is_new_by_itself", || {
        let (Some(program), Some(_)) = (needed("etcd"), needed("openssl")) else { return };
        let mut world = World::new(&with_store(""));
        let mut store = Store::on(&mut world, program, &[("granary", "10.44.8.20")]);
        store.answers(&world, "bench");
        at(&world, "bench", &["seal", "--key", "key"]).exits(0);
        for host in HOSTS {
            world.attend(host);
        }
        at(&world, "bench", &["roll-out"]).exits(0);
        // Those who listen ask once a minute only: who hears sooner was told.
        let mut took = Vec::new();
        for turn in 0..4 {
            // Words keep its revision going, orders do not: what is listened from is forgotten by and by.
            let words = json!({ "key": "L3g=", "value": "MQ==" });
            asked(&world, "bench", "/v3/kv/put", &words);
            if turn == 2 {
                compact(&world, "bench");
            }
            std::thread::sleep(Duration::from_secs(2));
            world.office.desk.write(with_store(&format!("# {turn}\n")));
            at(&world, "bench", &["seal", "--key", "key"]).exits(0);
            let began = Instant::now();
            at(&world, "bench", &["roll-out", "--steps", "100%"]).exits(0);
            took.push(began.elapsed());
        }
        assert!(took.iter().all(|it| *it < Duration::from_secs(30)), "{took:?}");
        // A store that was gone is listened to again.
        store.end(0);
        std::thread::sleep(Duration::from_secs(3));
        store.start(&world, 0);
        store.answers(&world, "bench");
        world.office.desk.write(with_store("# again\n"));
        at(&world, "bench", &["seal", "--key", "key"]).exits(0);
        at(&world, "bench", &["roll-out", "--steps", "100%"]).exits(0);
    });
}
