//! Hosts: addresses, defaults, baseline, and their rules with bundles unfolded.

use super::super::Diagnostic;
use super::super::model::{Host, Interface, PROGRAM_MARKS, Shell};
use super::super::record::{RECORDS, Record, Span};
use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, Names};
use super::bundle::{Bundles, Unfolded};
use super::common::{accepted, check_name, choice, nonempty_list};
use super::expect::expectation;
use super::label::Labels;
use super::logging::logging;
use super::posture::{at_boot, check_expected, postures};
use super::rule::traffic;
use super::settings::{Settings, settled};
use super::turned_away::{all_turned_away, turned_away};
use crate::hands::Hands;
use crate::space::{AddressSet, Block, Family};
use std::net::IpAddr;

/// Reads the section of one host.
pub(super) fn host(
    hands: &impl Hands,
    reader: &mut Reader<'_>,
    names: &Names<'_>,
    (bundles, shared): (&Bundles<'_, '_>, &Labels<'_, '_>),
    name: &Text,
    table: &Table<'_, '_>,
) -> Host {
    check_name(reader, "host", name);
    let (mut addresses, mut networks, mut broadcasts) = (Vec::new(), Vec::new(), Vec::new());
    for term in nonempty_list(reader, table, "addresses") {
        if let Some((address, network)) = own_address(reader, &term) {
            addresses.push(address);
            broadcasts.extend(network.as_ref().and_then(Block::broadcasts));
            networks.extend(network.map(|it| it.addresses()));
        }
    }
    let moving = !table.has("addresses");
    let on_link = on_link(networks);
    let names_of = nonempty_list(reader, table, "names");
    for pattern in &names_of {
        check_pattern(reader, pattern);
    }
    let labels = nonempty_list(reader, table, "labels");
    for label in &labels {
        check_name(reader, "label", label);
    }
    let own = addresses.iter().map(|&address| AddressSet::single(address)).collect();
    let interfaces = interfaces(reader, table);
    let names = Names {
        this_host: Some(&own),
        on_link: on_link.as_ref(),
        moving,
        interfaces: Some(&interfaces),
        ..*names
    };
    let parts = shared.parts(reader, &names, &labels);
    let own = Settings::read(reader, table);
    let (defaults, baseline) = settled(reader, &own, &parts);
    let mut unfolded = Unfolded::default();
    shared.unfold(reader, &names, (&labels, false), bundles, &mut unfolded);
    bundles.unfold_all(hands, reader, &names, table, &mut unfolded);
    shared.unfold(reader, &names, (&labels, true), bundles, &mut unfolded);
    let postures = postures(reader, &names, bundles, table, &unfolded);
    let at_boot = at_boot(reader, table, &postures);
    let turned_away = all_turned_away(turned_away(reader, &names, table), &parts);
    let mut expectations: Vec<_> = parts.into_iter().flat_map(|it| it.expectations).collect();
    let own = table.tables(reader, "expect");
    expectations.extend(own.iter().filter_map(|table| expectation(reader, &names, table)));
    let shell = shell(reader, &names, table);
    let open_on_failure = open_on_failure(reader, table);
    let marked = table.text(reader, "program-marks");
    let program_marks = marked.and_then(|text| marks(reader, &text)).unwrap_or(PROGRAM_MARKS);
    let host = Host {
        name: name.value.clone(),
        addresses,
        broadcasts,
        names: names_of.into_iter().map(|it| it.value).collect(),
        labels: labels.into_iter().map(|label| label.value).collect(),
        interfaces,
        defaults,
        baseline,
        rules: unfolded.rules,
        expectations,
        turned_away,
        shell,
        record: record(reader, table),
        logging: logging(reader, table),
        open_on_failure,
        program_marks,
        postures,
        at_boot,
        posture: None,
        accepted: accepted(reader, table),
        origin: reader.origin(name.span.clone()),
    };
    check_expected(reader, table, &host);
    host
}

/// Reads the key `on-failure`.
fn open_on_failure(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> bool {
    let text = table.text(reader, "on-failure");
    text.and_then(|text| choice(reader, &text, &["closed", "open"]).map(|it| it == "open"))
        .unwrap_or(false)
}

/// One of the `names`: a host name as machines bear it (RFC 1123 section 2.1), up to its first dot.
fn check_pattern(reader: &mut Reader<'_>, pattern: &Text) {
    let good = |it: char| it.is_ascii_lowercase() || it.is_ascii_digit() || matches!(it, '-' | '*');
    let found = &pattern.value;
    if (1..=63).contains(&found.len()) && found.chars().all(good) && found.matches('*').count() <= 4
    {
        return;
    }
    let origin = reader.origin(pattern.inner());
    let message = format!("`{}` cannot be a host's name", found.escape_debug());
    reader.report(
        Diagnostic::error("bad-name", message, origin).expected(
            "expected lower-case letters, digits, hyphens, and at most four `*`, such as `web-*`; without \
             what comes behind a dot",
        ),
    );
}

/// The `program-marks` key: bits side by side, of which two are the least to tell one program from
/// none and from this one.
fn marks(reader: &mut Reader<'_>, text: &Text) -> Option<u32> {
    let digits = text.value.strip_prefix("0x");
    let bits = digits.filter(|it| (1..=8).contains(&it.len()) && !it.starts_with('+'));
    let bits = bits.and_then(|it| u32::from_str_radix(it, 16).ok());
    let side_by_side = |bits: u32| {
        let low = bits.checked_shr(bits.trailing_zeros()).unwrap_or(0);
        low & low.wrapping_add(1) == 0 && bits.count_ones() > 1
    };
    let good = bits.filter(|&it| side_by_side(it));
    if good.is_none() {
        let origin = reader.origin(text.inner());
        let message = format!("`{}` is not a range of bits", text.value.escape_debug());
        reader.report(
            Diagnostic::error("bad-marks", message, origin)
                .expected("expected two bits or more, side by side, such as `0xff000000`"),
        );
    }
    good
}

/// The keys `record` and `record-for`.
fn record(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<Record> {
    let mut record = Record::USUAL;
    if let Some(text) = table.text(reader, "record-for") {
        let bounds = Record::SHORTEST..=Record::LONGEST;
        match Span::parse(&text.value).filter(|it| bounds.contains(&it.seconds)) {
            Some(span) => record.keeps = span.seconds,
            None => {
                let origin = reader.origin(text.inner());
                let message = format!("`{}` is no time to remember for", text.value.escape_debug());
                reader.report(Diagnostic::error("bad-time", message, origin).expected(
                    "expected a number with `minutes`, `hours` or `days`, such as `7 days`; from \
                     1 minute to 366 days",
                ));
            }
        }
    }
    let word = table.text(reader, "record");
    let word = word.as_ref().and_then(|text| choice(reader, text, &RECORDS));
    record.admitted = word == Some("all");
    (word != Some("off")).then_some(record)
}

/// Reads the key `shell` of a host.
fn shell(reader: &mut Reader<'_>, names: &Names<'_>, table: &Table<'_, '_>) -> Option<Shell> {
    let span = table.key_span("shell")?;
    let (traffic, terms) = traffic(reader, names, table, "shell");
    Some(Shell { traffic, terms, origin: reader.origin(span) })
}

fn interfaces(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Vec<Interface> {
    let mut interfaces = Vec::new();
    for (role, name) in table.words(reader, "interfaces") {
        check_name(reader, "role", &role);
        if let Ok(hardware) = name.value.parse() {
            if !terms::is_interface_name(&role.value) {
                let origin = reader.origin(role.inner());
                let message = format!("the role `{}` is too long", role.value.escape_debug());
                reader.report(
                    Diagnostic::error("bad-interface", message, origin)
                        .expected("the role of a hardware address has at most 15 letters"),
                );
            }
            let (role, hardware) = (role.value, Some(hardware));
            interfaces.push(Interface { name: role.clone(), role, hardware });
            continue;
        }
        if !terms::is_interface_name(&name.value) {
            let origin = reader.origin(name.inner());
            let message = format!("`{}` cannot name an interface", name.value.escape_debug());
            reader.report(Diagnostic::error("bad-interface", message, origin).expected(
                "a name has 1 to 15 letters, no space, no slash; a hardware address is like \
                         `52:54:00:12:34:56`",
            ));
        }
        interfaces.push(Interface { role: role.value, name: name.value, hardware: None });
    }
    let roles = interfaces.iter().filter(|it| it.hardware.is_some());
    let same = |it: &&Interface| {
        interfaces.iter().any(|other| other.hardware.is_none() && other.name == it.role)
    };
    if let Some(it) = roles.clone().find(same)
        && let Some(span) = table.key_span("interfaces")
    {
        let message = format!("`{}` is the role of one interface and the name of another", it.role);
        let origin = reader.origin(span);
        reader.report(
            Diagnostic::error("bad-interface", message, origin)
                .expected("choose another role for the hardware address"),
        );
    }
    interfaces
}

/// One of the host's addresses, and the network it is in if a prefix length is written.
fn own_address(reader: &mut Reader<'_>, term: &Text) -> Option<(IpAddr, Option<Block>)> {
    if let Some((address, network)) = Block::parse_with_network(&term.value) {
        return Some((address, Some(network)));
    }
    let block = terms::block(reader, term)?;
    let address = block.as_single();
    if address.is_none() {
        let origin = reader.origin(term.inner());
        reader.report(
            Diagnostic::error("bad-address", format!("`{block}` is a network"), origin)
                .expected("expected an address of the host's own, such as `192.0.2.10/24`"),
        );
    }
    address.map(|address| (address, None))
}

/// All networks that the host is on; `None` if none is written. Every interface with IPv6 is also
/// on a link-local network (RFC 4291 section 2.5.6).
fn on_link(networks: Vec<AddressSet>) -> Option<AddressSet> {
    let all: AddressSet = networks.into_iter().collect();
    let link_local = Block::parse("fe80::/64").ok().filter(|_| all.has(Family::V6));
    let link_local = link_local.map(|block| block.addresses());
    (!all.is_empty()).then(|| link_local.iter().fold(all, |all, more| all.union(more)))
}
