//! Services that are made of services, and what their ports are for.

use crate::given::policy;
use tipstaff_core::policy::{Source, read};
use tipstaff_core::space::PortProtocol;

const HEADER: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n";

/// In any order, with words for each; a service's own name inside it is that of the registry.
#[test]
fn services_are_made_of_services() {
    let text = format!(
        "{HEADER}[service.all]\nports = [\"herbarium\", \"7/udp\"]\n\
         [service.herbarium.ports]\n\"5432/tcp\" = \"Queries\"\ndomain = \"\"\nremote = \"Work\"\n\
         [service.remote]\nports = [\"22/tcp\"]\n[service.domain]\nports = [\"domain\", \"853/tcp\"]\n"
    );
    let policy = policy(&text);
    let names: Vec<&str> = policy.services.iter().map(|it| it.name.as_str()).collect();
    assert_eq!(names, ["all", "herbarium", "remote", "domain"], "as written");
    let traffic = |name: &str| {
        let found = policy.services.iter().find(|it| it.name == name).expect("it is there");
        (
            found.traffic.ports[PortProtocol::Tcp].to_string(),
            found.traffic.ports[PortProtocol::Udp].to_string(),
        )
    };
    assert_eq!(traffic("domain"), ("53, 853".into(), "53".into()));
    assert_eq!(traffic("herbarium"), ("22, 53, 853, 5432".into(), "53".into()));
    assert_eq!(traffic("all"), ("22, 53, 853, 5432".into(), "7, 53".into()));
    let ports = &policy.services[1].ports;
    let told: Vec<_> = ports.iter().map(|it| (it.term.as_str(), it.meaning.as_deref())).collect();
    assert_eq!(
        told,
        [("5432/tcp", Some("Queries")), ("domain", Some("")), ("remote", Some("Work"))]
    );
    assert_eq!(policy.services[0].ports[0].meaning, None);
    // Thirty-two steps can be followed, more cannot.
    let tower = |steps: usize| {
        let mut text = format!("{HEADER}[service.s0]\nports = [\"22/tcp\"]\n");
        for step in 1..=steps {
            text += &format!("[service.s{step}]\nports = [\"s{}\"]\n", step - 1);
        }
        // From the top, so that every step is one deeper.
        let (head, services) = text.split_at(HEADER.len());
        let mut parts: Vec<&str> = services.split_inclusive("]\n").collect();
        parts.reverse();
        let pairs: String = parts.chunks(2).map(|it| format!("{}{}", it[1], it[0])).collect();
        read(&Source::new("policy.toml", &format!("{head}{pairs}")))
    };
    assert!(tower(31).is_ok());
    let problems = tower(33).expect_err("too deep");
    assert_eq!(problems[0].code, "service-depth");
}
