//! The rules of a draft.

use super::facts::{Facts, Listener};
use super::text::{comment, list, slug};
use crate::analysis::{Narrowness, lasting, narrowed};
use crate::policy::edit::quoted;
use crate::space::{AddressSet, PortProtocol};
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;

/// The place from which remote shells are used.
pub(crate) const ADMINISTRATORS: &str = "administrators";
/// Programs that serve remote shells go by such names.
const SHELLS: [&str; 2] = ["sshd", "dropbear"];
/// Programs that run what others wrote: to name one would let all of that pass. What a version
/// adds to the name does not count.
const INTERPRETERS: [&str; 9] =
    ["bash", "dash", "java", "node", "perl", "php", "python", "ruby", "sh"];
/// A rule that names more senders than this would not be read.
const MOST_SENDERS: usize = 256;
/// DHCP clients listen there; the baseline lets in what they wait for (RFC 2131, RFC 8415).
const DHCP_CLIENTS: [u16; 2] = [68, 546];

/// A rule of a draft.
pub(super) struct Rule {
    name: String,
    program: Option<String>,
    /// Whether the rule is only for that program.
    by_program: bool,
    /// Whether TCP, and the port.
    ports: BTreeSet<(u16, PortProtocol)>,
    /// Who is connected there now.
    pub from: BTreeSet<IpAddr>,
    /// Whether it admits to a remote shell.
    pub is_shell: bool,
    /// The shell's rule, while nobody uses the shell, has to admit somebody.
    on_link: bool,
}

/// One rule for each program, and for each port of it that others use; the remote shell's first.
pub(super) fn rules(facts: &Facts) -> Vec<Rule> {
    let own: Vec<IpAddr> =
        facts.links.iter().flat_map(|link| &link.addresses).map(|it| it.0).collect();
    let mut ports: BTreeMap<(u16, PortProtocol), &Listener> = BTreeMap::new();
    for listener in &facts.listeners {
        let dhcp = listener.protocol == PortProtocol::Udp && DHCP_CLIENTS.contains(&listener.port);
        if !listener.address.is_loopback() && !dhcp {
            ports.entry((listener.port, listener.protocol)).or_insert(listener);
        }
    }
    let mut rules: Vec<Rule> = Vec::new();
    for (&(port, protocol), listener) in &ports {
        let tcp = protocol == PortProtocol::Tcp;
        let contacts =
            facts.contacts.iter().filter(|it| (it.port, it.protocol) == (port, protocol));
        let peers = contacts.map(|it| it.peer.to_canonical());
        let mut from: BTreeSet<IpAddr> =
            peers.filter(|it| !it.is_loopback() && !own.contains(it)).collect();
        let session = facts.session.filter(|it| tcp && it.1 == port);
        from.extend(session.map(|it| it.0.to_canonical()).filter(|it| !it.is_loopback()));
        let file = listener.program.as_deref().map(|it| it.rsplit('/').next().unwrap_or(it));
        let is_shell = tcp && (session.is_some() || file.is_some_and(|it| SHELLS.contains(&it)));
        let program = listener.program.clone().filter(|_| protocol.has_known_receivers());
        let same = |rule: &&mut Rule| {
            rule.program.is_some()
                && (&rule.program, &rule.from, rule.is_shell) == (&program, &from, is_shell)
        };
        if let Some(rule) = rules.iter_mut().find(same) {
            rule.ports.insert((port, protocol));
            continue;
        }
        let mut name = slug(file.unwrap_or_default(), &format!("port-{port}-{protocol}"));
        if rules.iter().any(|rule| rule.name == name) {
            name = format!("{name}-{port}-{protocol}");
        }
        let on_link = is_shell && from.is_empty();
        let ports = BTreeSet::from([(port, protocol)]);
        // An upgrade of the remote shell must lock nobody out.
        let by_program = facts.by_program
            && !is_shell
            && program.as_deref().is_some_and(|it| it.starts_with('/') && !interprets(it));
        rules.push(Rule { name, program, by_program, ports, from, is_shell, on_link });
    }
    rules.sort_by_key(|rule| !rule.is_shell);
    rules
}

fn interprets(program: &str) -> bool {
    let name = program.rsplit('/').next().unwrap_or(program);
    let bare = name.trim_end_matches(|it: char| it.is_ascii_digit() || it == '.');
    INTERPRETERS.contains(&bare)
}

impl Rule {
    /// The TCP ports that it admits to.
    pub(crate) fn tcp_ports(&self) -> impl Iterator<Item = u16> + use<'_> {
        self.ports.iter().filter(|it| it.1 == PortProtocol::Tcp).map(|it| it.0)
    }

    /// The senders; of many, their networks.
    fn terms(&self) -> Vec<String> {
        if self.from.len() <= MOST_SENDERS {
            return self.from.iter().map(ToString::to_string).collect();
        }
        let used: AddressSet = self.from.iter().map(|it| AddressSet::single(*it)).collect();
        narrowed(&used, &AddressSet::full(), &[], Narrowness::Networks).terms
    }

    fn traffic(&self) -> Vec<String> {
        // Protocols of one port are one term, at the place of the first.
        let word = |&(port, protocol): &(u16, PortProtocol)| {
            let its = PortProtocol::ALL.into_iter().filter(|it| self.ports.contains(&(port, *it)));
            let its: Vec<&str> = its.map(PortProtocol::as_str).collect();
            (its.first() == Some(&protocol.as_str())).then(|| format!("{port}/{}", its.join("+")))
        };
        self.ports.iter().filter_map(word).collect()
    }

    /// Writes the rule, with what led to it. `administrators` are those of the place of that
    /// name.
    pub(super) fn write(
        &self,
        out: &mut String,
        host: &str,
        administrators: Option<&BTreeSet<IpAddr>>,
        remembered: Option<u64>,
    ) {
        let (when, is, are) = match remembered {
            Some(seconds) => (
                format!("in the last {}", lasting(seconds)),
                "came or is connected",
                "came or are connected",
            ),
            None => ("now".to_owned(), "is connected", "are connected"),
        };
        let traffic = self.traffic();
        let program = self.program.as_deref().unwrap_or("a program that could not be seen");
        let listens = format!("{program} listens at {}", traffic.join(", "));
        out.push('\n');
        let terms = self.terms();
        let crowd = terms.len() > MOST_SENDERS;
        let reason = match self.from.len() {
            _ if self.on_link => format!(
                "? {listens}, and nobody {is} {when}. Who administers this machine, from where? \
                 Until that is named here, only from its own networks."
            ),
            0 => format!(
                "? {listens}, and nobody {is} {when}. Who needs it? Name them with `from`, and take \
                 `paused` away; or stop the program."
            ),
            count if crowd => format!(
                "? {listens}, and {count} different senders {are} {when}: too many to name, so it \
                 is open to anybody. Is it meant so?"
            ),
            count if count > MOST_SENDERS => format!(
                "? {listens}, and {count} different senders {are} {when}: too many to name one by one, so \
                 all of their networks are let in. Is it meant so?"
            ),
            1 => format!("{listens}, and one sender {is} {when}."),
            count => format!("{listens}, and {count} senders {are} {when}."),
        };
        comment(out, &reason);
        out.push_str(&format!(
            "[[host.{host}.rule]]\nname = {}\nallow = {}\n",
            quoted(&self.name),
            list(traffic)
        ));
        if let Some(program) = self.program.as_deref().filter(|_| self.by_program) {
            out.push_str(&format!("program = {}\n", quoted(program)));
        }
        if self.on_link {
            out.push_str("from = [\"on-link\"]\n");
        } else if self.from.is_empty() {
            out.push_str("paused = true\n");
        } else if self.is_shell && administrators == Some(&self.from) {
            out.push_str(&format!("from = [\"{ADMINISTRATORS}\"]\n"));
        } else if !crowd {
            out.push_str(&format!("from = {}\n", list(terms)));
        }
    }
}
