//! Where postures hold by themselves.

use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, is_interface_name};
use super::super::{Diagnostic, Posture, When};
use super::common::nonempty_list;
use crate::space::HardwareAddress;
use std::net::IpAddr;

/// Reads `when` of a posture.
pub(super) fn when(reader: &mut Reader<'_>, posture: &Table<'_, '_>) -> Option<When> {
    let span = posture.key_span("when")?;
    let table = posture.table(reader, "when")?;
    let networks = nonempty_list(reader, &table, "on-link");
    let networks = networks.iter().filter_map(|it| terms::block_or_range(reader, it)).collect();
    let gateways = nonempty_list(reader, &table, "gateway");
    let gateways = gateways.iter().filter_map(|it| gateway(reader, it)).collect();
    let hardware = nonempty_list(reader, &table, "gateway-hardware");
    let hardware = hardware.iter().filter_map(|it| hardware_address(reader, it)).collect();
    let up = nonempty_list(reader, &table, "up");
    let up = up.into_iter().filter(|it| is_name(reader, it)).map(|it| it.value).collect();
    if !table.has("gateway-hardware") && !table.has("up") {
        let message = "any network could say that it is there";
        let origin = reader.origin(span);
        reader.report(
            Diagnostic::error("anybodys-place", message, origin)
                .expected("needs `gateway-hardware`, or an interface that is `up`")
                .help("addresses are given by the network that one is in, whichever that is"),
        );
    }
    Some(When { networks, gateways, hardware, up })
}

/// Where nothing is known, one posture must hold: the one in which every boot begins, which has no place itself.
pub(super) fn check(
    reader: &mut Reader<'_>,
    host: &Table<'_, '_>,
    postures: &[Posture],
    at_boot: Option<&str>,
) {
    let Some(first) = postures.iter().find(|it| it.when.is_some()) else { return };
    let Some(elsewhere) = at_boot else {
        if !host.has("at-boot") {
            reader.problems.push(
                Diagnostic::error(
                    "no-elsewhere",
                    format!(
                        "`{}` holds by itself somewhere, and nothing says what holds elsewhere",
                        first.name
                    ),
                    first.origin.clone(),
                )
                .expected("needs `at-boot = \"POSTURE\"` in the host's section: the strictest")
                .help(
                    "it holds wherever the machine cannot tell that it is in another one's place",
                ),
            );
        }
        return;
    };
    if let Some(same) = postures.iter().find(|it| it.name == elsewhere && it.when.is_some()) {
        reader.problems.push(
            Diagnostic::error(
                "no-elsewhere",
                format!("`{elsewhere}` is to hold where nothing is known, and has a place itself"),
                same.origin.clone(),
            )
            .expected("`at-boot` names a posture without `when`"),
        );
    }
}

fn gateway(reader: &mut Reader<'_>, text: &Text) -> Option<IpAddr> {
    let found = text.value.parse().ok();
    if found.is_none() {
        let message = format!("`{}` is not an address", text.value.escape_debug());
        let origin = reader.origin(text.inner());
        reader.report(
            Diagnostic::error("bad-address", message, origin)
                .expected("expected one address, such as 10.44.8.1"),
        );
    }
    found
}

fn hardware_address(reader: &mut Reader<'_>, text: &Text) -> Option<HardwareAddress> {
    let found = text.value.parse().ok();
    if found.is_none() {
        let message = format!("`{}` is not a hardware address", text.value.escape_debug());
        let origin = reader.origin(text.inner());
        reader.report(
            Diagnostic::error("bad-hardware-address", message, origin)
                .expected("expected six pairs of digits, such as 52:54:00:44:08:01"),
        );
    }
    found
}

fn is_name(reader: &mut Reader<'_>, text: &Text) -> bool {
    if is_interface_name(&text.value) {
        return true;
    }
    let message = format!("`{}` cannot name an interface", text.value.escape_debug());
    let origin = reader.origin(text.inner());
    reader.report(
        Diagnostic::error("bad-interface", message, origin)
            .expected("a name has 1 to 15 letters, no space, no slash"),
    );
    false
}
