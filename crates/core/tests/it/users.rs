//! Rules for users.

use crate::given::{packet, plan, tcp};
use std::collections::BTreeMap;
use tipstaff_core::analysis::{Facts, Listener, review_machine};
use tipstaff_core::policy::{Code, Source, read};
use tipstaff_core::space::{Packet, PortProtocol};

const HOST: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n";

fn policy(keys: &str) -> String {
    format!("{HOST}[[host.sluice.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp\"]\n{keys}\n")
}

#[test]
fn a_rule_with_a_user_is_about_their_sockets_only() {
    let by = |keys: &str, program: Option<&str>, user: Option<&str>| {
        let packet = Packet {
            program: program.map(str::to_owned),
            user: user.map(str::to_owned),
            ..packet("203.0.113.9", "192.0.2.10", tcp(5432))
        };
        plan(&policy(keys), "sluice").evaluate(&packet).by.to_string() == "seeds"
    };
    let one = "user = \"seedbase\"";
    assert!(by(one, None, Some("seedbase")) && by(one, Some("/bin/x"), Some("seedbase")));
    assert!(!by(one, None, None) && !by(one, None, Some("990")));
    let several = "user = [\"990\", \"seedbase\"]";
    assert!(by(several, None, Some("990")) && by(several, None, Some("seedbase")));
    let both = "program = \"/opt/seedbase\"\nuser = \"990\"";
    assert!(by(both, Some("/opt/seedbase"), Some("990")));
    assert!(!by(both, Some("/opt/seedbase"), None) && !by(both, None, Some("990")));
    let plan = plan(&policy(both), "sluice");
    let rule = plan.decisions().map(|it| it.1).find(|it| it.id.name == "seeds");
    let written = &rule.expect("it is there").written.traffic;
    assert_eq!(written, "5432/tcp of /opt/seedbase by 990");
}

fn found(keys: &str, facts: &Facts) -> Vec<(Code, String)> {
    let text = policy(keys);
    let policy = read(&Source::new("policy.toml", &text)).expect("good");
    let plan = plan(&text, "sluice");
    let found = review_machine(&policy, &plan, facts);
    let about = found
        .into_iter()
        .filter(|it| matches!(it.code, Code::UserMissing | Code::OtherUser | Code::UserShared));
    about.map(|it| (it.code, it.message)).collect()
}

#[test]
fn users_who_are_not_there_and_others_at_their_ports_are_found() {
    let listener = |port, address: &str, uid| Listener {
        protocol: PortProtocol::Tcp,
        port,
        address: address.parse().expect("an address"),
        pid: Some(7),
        program: None,
        known: None,
        uid,
    };
    let users = BTreeMap::from([("seedbase".to_owned(), Some(990)), ("ledger".to_owned(), None)]);
    let listeners = vec![
        listener(5432, "0.0.0.0", Some(0)),
        listener(5432, "127.0.0.1", Some(5)),
        listener(5432, "::", None),
        listener(5433, "0.0.0.0", Some(6)),
    ];
    let facts = Facts { users, listeners, ..Facts::default() };
    let missing = (Code::UserMissing, "names the user ledger, who is not known here".to_owned());
    let other = |wanted: &str| {
        let words = format!("is for sockets of {wanted}, but user 0's waits at 5432/tcp");
        (Code::OtherUser, words)
    };
    assert_eq!(found("user = \"seedbase\"", &facts), [other("seedbase")]);
    // Where nobody named is known, nobody can be another.
    assert_eq!(found("user = \"ledger\"", &facts), std::slice::from_ref(&missing));
    let both = found("user = [\"seedbase\", \"ledger\"]", &facts);
    assert_eq!(both, [missing, other("ledger or seedbase")]);
    assert_eq!(found("user = \"seedbase\"\npaused = true", &facts), []);
    assert_eq!(found("user = \"seedbase\"\ndirection = \"outbound\"", &facts), []);
    // One user, named in two ways.
    let twice = BTreeMap::from([("seedbase", 990), ("990", 990), ("root", 0)]);
    let twice = twice.into_iter().map(|(name, number)| (name.to_owned(), Some(number))).collect();
    let shared = Facts { users: twice, ..Facts::default() };
    assert_eq!(found("user = [\"root\", \"seedbase\"]", &shared), []);
    let words = "names the user seedbase, whom rules also name 990".to_owned();
    let named = found("user = [\"990\", \"seedbase\"]", &shared);
    assert_eq!(named, [(Code::UserShared, words)]);
    let right = Facts { listeners: vec![listener(5432, "0.0.0.0", Some(990))], ..facts };
    assert_eq!(found("user = \"seedbase\"", &right), []);
}
