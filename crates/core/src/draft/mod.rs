//! A first policy from what a machine does now: narrow, with a reason for every rule, and with a
//! question where only its administrator knows the answer.

mod facts;
mod rules;
mod text;
mod tunnel;

pub use facts::{Contact, Facts, Link, Listener, Tunnel};

use crate::analysis::lasting;
use crate::policy::edit::quoted;
use crate::space::PortProtocol;
use rules::Rule;
use std::collections::BTreeSet;
use std::net::IpAddr;
pub(crate) use text::slug;
use text::{comment, list};

/// So many ports at which nothing listens are named.
const MOST_PORTS: usize = 12;

/// The policy, as text.
#[must_use]
pub fn draft(facts: &Facts) -> String {
    let host = slug(&facts.host, "this-host");
    let rules = rules::rules(facts);
    let (who, they) = match facts.remembered {
        Some(seconds) => (
            format!("who came in the last {}", lasting(seconds)),
            "Whoever came, or is connected now,",
        ),
        None => ("who is connected now".to_owned(), "Whoever is connected"),
    };
    let mut out = format!(
        "# A first policy for {host}, from what listens here now and {who}.\n\
         # {they} stays admitted, and nothing else opens. Answer the questions (# ?),\n\
         # then look: tipstaff review --live, tipstaff rehearse; and only then: tipstaff enforce.\n"
    );
    for unseen in &facts.unseen {
        comment(&mut out, &format!("Not seen: {unseen}"));
    }
    nobody_there(&mut out, facts);
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
    let tunnel = facts.tunnel.iter().map(|it| &it.link);
    for name in facts.links.iter().map(|it| &it.name).chain(tunnel) {
        let role = slug(name, "link");
        if !roles.iter().any(|it| it.0 == role) {
            roles.push((role, name));
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
    if facts.remembered.is_some() {
        // What is known of rules goes on being known.
        out.push_str("record = \"all\"\n");
    }
    defaults(&mut out, facts, &host);
    for rule in &rules {
        rule.write(&mut out, &host, shell.map(|it| &it.from), facts.remembered);
    }
    if let Some(tunnel) = &facts.tunnel {
        let role = roles.iter().find(|it| it.1 == tunnel.link).map_or("tunnel", |it| &it.0);
        tunnel::write(&mut out, &host, tunnel, role);
    }
    out
}

/// What came to where nothing listens.
fn nobody_there(out: &mut String, facts: &Facts) {
    if facts.nobody_there.is_empty() {
        return;
    }
    let one =
        |(port, protocol, came): &(u16, PortProtocol, usize)| format!("{port}/{protocol} ({came})");
    let all: Vec<String> = facts.nobody_there.iter().take(MOST_PORTS).map(one).collect();
    let more = facts.nobody_there.len() - all.len();
    let more = if more == 0 { String::new() } else { format!(" and {more} more") };
    let all = all.join(", ");
    comment(
        out,
        &format!(
            "Nothing listens now where some came, so this is not admitted (how many came): {all}{more}."
        ),
    );
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
