//! A first policy from what a machine does now: narrow, with a reason for every rule, and with a
//! question where only its administrator knows the answer.

mod rules;

use crate::policy::deceives;
use crate::policy::edit::quoted;
use rules::Rule;
use std::collections::BTreeSet;
use std::net::IpAddr;

/// What a machine does now.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct Facts {
    /// Its name.
    pub host: String,
    /// Its links besides the loopback one.
    pub links: Vec<Link>,
    /// Whether it passes packets on between links.
    pub forwards: bool,
    /// What listens.
    pub listeners: Vec<Listener>,
    /// Who is connected.
    pub contacts: Vec<Contact>,
    /// The remote shell session that asks: the client's address, and the port of the shell.
    pub session: Option<(IpAddr, u16)>,
    /// Whether rules are to be for the programs that listen now, and no others.
    pub by_program: bool,
    /// What could not be seen, in words.
    pub unseen: Vec<String>,
}

/// A link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// Its name.
    pub name: String,
    /// Its addresses with prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
}

/// A socket that waits for traffic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listener {
    /// Whether it is TCP, rather than UDP.
    pub tcp: bool,
    /// Its port.
    pub port: u16,
    /// The address it is bound to.
    pub address: IpAddr,
    /// The file of its program, if that is known.
    pub program: Option<String>,
}

/// A connection to this machine that stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contact {
    /// Whether it is TCP, rather than UDP.
    pub tcp: bool,
    /// This machine's port.
    pub port: u16,
    /// Who is at the other end.
    pub peer: IpAddr,
}

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
    let mut addresses: Vec<String> = known.map(|(it, prefix)| format!("{it}/{prefix}")).collect();
    let networks = if addresses.is_empty() { "private" } else { "on-link" };
    if addresses.is_empty() {
        comment(
            &mut out,
            "? This machine has no address but the loopback ones now. Which ones will it have?",
        );
        addresses = ["127.0.0.1", "::1"].map(str::to_owned).to_vec();
    }
    out.push_str(&format!("addresses = {}\n", list(addresses)));
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
        rule.write(&mut out, &host, shell.map(|it| &it.from), networks);
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

/// Adds a comment, in lines of readable length. Nothing in it can end it.
fn comment(out: &mut String, text: &str) {
    const WIDTH: usize = 96;
    let clean: String = text.chars().map(|it| if deceives(it) { '\u{fffd}' } else { it }).collect();
    let mut line = String::from("#");
    for word in clean.split(' ') {
        if line.len() > 1 && line.chars().count() + 1 + word.chars().count() > WIDTH {
            out.push_str(&line);
            out.push('\n');
            line = String::from("#");
        }
        line.push(' ');
        line.push_str(word);
    }
    out.push_str(&line);
    out.push('\n');
}

fn list(items: impl IntoIterator<Item = String>) -> String {
    let items: Vec<String> = items.into_iter().map(|it| quoted(&it)).collect();
    format!("[{}]", items.join(", "))
}

/// A name as policies have them, made from any text.
fn slug(text: &str, otherwise: &str) -> String {
    let mut name = String::new();
    for char in text.chars().flat_map(char::to_lowercase) {
        if char.is_ascii_alphanumeric() {
            name.push(char);
        } else if !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
    }
    let name = name.trim_end_matches('-');
    if name.is_empty() { otherwise.into() } else { name.chars().take(48).collect() }
}

fn of_the_link(address: IpAddr) -> bool {
    matches!(address, IpAddr::V6(it) if it.is_unicast_link_local())
}
