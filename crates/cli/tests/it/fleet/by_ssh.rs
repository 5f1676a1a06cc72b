//! A folder on another machine as the carrier, by OpenSSH.

use super::stores::at;
use super::world::{HOSTS, World};
use crate::harness::MENDED;
use crate::servers::{make_key, start_sshd, tools_to_log_in};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use tipstaff_linux::lab::testing::sealed;

/// The mended policy, in which the stacks may reach granary's remote shell.
fn with_shell(more: &str) -> String {
    format!(
        "{MENDED}\n[[host.granary.rule]]\nname = \"shell\"\nallow = [\"2202/tcp\"]\nfrom = [\"stacks\"]\n{more}"
    )
}

#[test]
fn a_folder_elsewhere_carries_it_too() {
    let Some(tools) = tools_to_log_in() else { return };
    sealed("fleet::by_ssh::a_folder_elsewhere_carries_it_too", || {
        let keys = tempfile::tempdir().expect("a folder");
        make_key(&tools[2], keys.path());
        fs::create_dir("/run/netns").expect("a folder");
        let mut world = World::new(&with_shell(""));
        let _server = start_sshd(world.node("granary"), &tools[0], keys.path());
        // The client as somebody has set it up, and a far end where the program is not installed.
        let client = format!(
            "#!/bin/sh\nset -- $(for it; do [ \"$it\" = tipstaff ] && it={}; printf '%s ' \"$it\"; done)\n\
             exec {} -F none -i {} -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR \"$@\"\n",
            env!("CARGO_BIN_EXE_tipstaff"),
            tools[1].display(),
            keys.path().join("host_key").display()
        );
        let folder = world.office.path("bin");
        fs::create_dir(&folder).expect("a folder");
        fs::write(folder.join("ssh"), client).expect("written");
        fs::set_permissions(folder.join("ssh"), fs::Permissions::from_mode(0o755)).expect("a mode");
        let carrier = world.office.path("carrier");
        world.office.carrier = vec![
            ("TIPSTAFF_CARRIER".into(), format!("ssh://root@10.44.8.20:2202{}", carrier.display())),
            ("PATH".into(), format!("{}:/usr/bin:/bin", folder.display())),
        ];
        let sealed = at(&world, "bench", &["seal", "--key", "key"]).exits(0).stdout;
        assert!(sealed.contains("root@10.44.8.20:2202:/"), "{sealed}");
        assert!(world.office.bundle(1).exists());
        for host in HOSTS {
            world.attend(host);
        }
        let steps = ["roll-out", "--steps", "1,100%", "--format", "json"];
        let done = at(&world, "bench", &steps).exits(0).json();
        assert_eq!(done["have"], serde_json::json!(HOSTS), "{done}");
        HOSTS.iter().for_each(|it| world.in_force(it));
        // The connection that sluice has lives on; that proves nothing, so another one is tried.
        world.office.desk.write(with_shell(
            "[[host.sluice.rule]]\nname = \"no-shell\"\ndeny = [\"2202/tcp\"]\ndirection = \"outbound\"\n",
        ));
        at(&world, "bench", &["seal", "--key", "key"]).exits(0);
        let stopped = at(&world, "bench", &steps).exits(1).json();
        assert_eq!(stopped["have_not"][0]["host"], "sluice", "{stopped}");
        assert_eq!(stopped["have_not"][0]["stands"], "went-back", "{stopped}");
        world.in_force("sluice");
        // Where nobody lets us in, that is said, and nothing is taken for none.
        for (other, why) in [
            ("nobody@10.44.8.20:2202", "what is no answer"),
            // The policy that is in force there denies it.
            ("root@10.44.8.20:2203", "timed out"),
        ] {
            let other = format!("ssh://{other}{}", carrier.display());
            let refused = at(&world, "bench", &["status", "--carrier", &other]).exits(3).stderr;
            assert!(refused.contains(why), "{refused}");
        }
        let odd = at(&world, "bench", &["status", "--carrier", "ssh://-oProxyCommand=x/y"]);
        assert!(odd.exits(2).stderr.contains("is no carrier"));
    });
}
