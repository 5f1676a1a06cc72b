//! A first policy from what a machine does now: narrow, with a reason for every rule, and with a
//! question where only its administrator knows the answer.

mod facts;
mod rules;
mod text;

pub use facts::{Contact, Facts, Link, Listener};

use crate::policy::edit::quoted;
use rules::Rule;
use std::collections::BTreeSet;
use std::net::IpAddr;
use text::{comment, list, slug};

/// The policy, as text.
#[must_use]
pub fn draft(facts: &Facts) -> String {
    let host = slug(&facts.host, "this-host");
    let rules = rules::rules(facts);
    let mut out = format!(
        "# A first policy for {host}, from what listens here now and who is connected now.\n\
         # Whoever is connected stays admitted, and nothing else opens. Answer the questions (# ?),\n\
         # then look: tipstaff review --live, tipstaff rehearse; and only then: tipstaff enforce.\n"
    );
    for unseen in &facts.unseen {
        comment(&mut out, &format!("Not seen: {unseen}"));
    }
    out.push_str("edition = 1\n");
    let shell = rules.iter().find(|rule| rule.is_shell && !rule.from.is_empty());
    if let Some(shell) = shell {
        out.push_str(&format!(
            "\n[place.{}]\naddresses = {}\nwhy = \"Where remote shell sessions come from now\"\n",
            rules::ADMINISTRATORS,
            list(shell.from.iter().map(ToString::to_string))
        ));
    }
    out.push_str(&format!("\n[host.{host}]\n"));
    let all = facts.links.iter().flat_map(|link| &link.addresses);
    // An address that only its link knows says nothing about who may come.
    let known = all.filter(|(address, _)| !of_the_link(*address));
    let addresses: Vec<String> = known.map(|(it, prefix)| format!("{it}/{prefix}")).collect();
    if addresses.is_empty() || facts.links.iter().any(|it| it.lent) {
        let why = if addresses.is_empty() {
            "This machine has no address but the loopback ones now. Whichever it gets are its own."
        } else {
            "Some of this machine's addresses are given to it for a time only, so none are listed \
             here: whichever it has at the moment are its own."
        };
        comment(&mut out, why);
    } else {
        out.push_str(&format!("addresses = {}\n", list(addresses)));
    }
    let mut roles: Vec<(String, &str)> = Vec::new();
    for link in &facts.links {
        let role = slug(&link.name, "link");
        if !roles.iter().any(|it| it.0 == role) {
            roles.push((role, &link.name));
        }
    }
    if !roles.is_empty() {
        let words: Vec<String> =
            roles.iter().map(|(role, name)| format!("{role} = {}", quoted(name))).collect();
        out.push_str(&format!("interfaces = {{ {} }}\n", words.join(", ")));
    }
    let shells: BTreeSet<u16> =
        rules.iter().filter(|rule| rule.is_shell).flat_map(Rule::tcp_ports).collect();
    if !shells.is_empty() {
        out.push_str(&format!("shell = {}\n", list(shells.iter().map(|it| format!("{it}/tcp")))));
    }
    defaults(&mut out, facts, &host);
    for rule in &rules {
        rule.write(&mut out, &host, shell.map(|it| &it.from));
    }
    out
}

fn defaults(out: &mut String, facts: &Facts, host: &str) {
    out.push_str(&format!("\n[host.{host}.default]\ninbound = \"deny\"\noutbound = \"allow\"\n"));
    if facts.forwards {
        let names: Vec<&str> = facts.links.iter().map(|link| link.name.as_str()).collect();
        comment(
            out,
            &format!(
                "? This machine passes packets on between its links ({}): it is a gateway, or has \
                 containers or virtual machines. That is left as it is, so that nothing is cut. Which \
                 of it is wanted? Allow that by rules with direction = \"forwarded\", then deny the rest \
                 here.",
                names.join(", ")
            ),
        );
        out.push_str("forwarded = \"allow\"\n");
    } else {
        out.push_str("forwarded = \"deny\"\n");
    }
}

fn of_the_link(address: IpAddr) -> bool {
    matches!(address, IpAddr::V6(it) if it.is_unicast_link_local())
}
