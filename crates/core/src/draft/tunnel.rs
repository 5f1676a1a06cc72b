//! A posture in which a tunnel is the only way out, and what proves that.

use super::facts::Tunnel;
use super::text::{comment, list};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// The posture that a draft has for it.
const SEALED: &str = "sealed";

/// Adds the posture, and the expectations that `review` proves.
pub(super) fn write(out: &mut String, host: &str, tunnel: &Tunnel, role: &str) {
    let section = format!("host.{host}.posture.{SEALED}");
    let mut of: BTreeMap<IpAddr, Vec<String>> = BTreeMap::new();
    for (address, traffic) in &tunnel.endpoints {
        let all = of.entry(*address).or_default();
        if !all.contains(traffic) {
            all.push(traffic.clone());
        }
    }
    out.push('\n');
    comment(
        out,
        &format!(
            "Nothing leaves but through {}: `tipstaff posture take {SEALED}` takes this, `tipstaff posture leave` \
             leaves it, and `tipstaff review` proves it for every packet. Connections that stand go on only \
             through the tunnel, too. What asks for an address and looks for neighbours on the link goes out as \
             it is.",
            tunnel.link
        ),
    );
    out.push_str(&format!(
        "[{section}]\nwhy = \"Only the tunnel\"\ninstead = true\n\n\
         [{section}.default]\ninbound = \"deny\"\noutbound = \"deny\"\nforwarded = \"deny\"\n\n\
         [{section}.baseline]\noutbound-replies = false\nforwarded-replies = false\n"
    ));
    let one = of.len() == 1;
    if !one {
        comment(
            out,
            "? With all of these this machine speaks by another way than the tunnel. Which are far ends of it? \
             Take the rules and expectations of the others out.",
        );
    }
    for (number, (address, traffic)) in of.iter().enumerate() {
        let number = if one { String::new() } else { format!("-{}", number + 1) };
        let traffic = list(traffic.iter().cloned());
        for (name, direction, end, way, why) in [
            ("tunnel-endpoint", "outbound", "to", "egress", "The tunnel itself"),
            // Where each end sends to the same port, as in RFC 7348, what comes back is no reply.
            ("tunnel-answers", "inbound", "from", "ingress", "What the far end begins"),
        ] {
            out.push_str(&format!(
                "\n[[{section}.rule]]\nname = \"{name}{number}\"\ndirection = \"{direction}\"\n\
                 allow = {traffic}\n{end} = [\"{address}\"]\n{way} = [\"!{role}\"]\nwhy = \"{why}\"\n"
            ));
        }
    }
    out.push_str(&format!(
        "\n[[{section}.rule]]\nname = \"through-tunnel\"\ndirection = \"outbound\"\nallow = [\"any\"]\n\
         egress = [\"{role}\"]\n"
    ));
    let mut expect = |direction: &str, to: String, traffic: String| {
        let besides = match direction {
            "outbound" => "besides = [\"dhcp\", \"neighbours\"]\n",
            _ => "",
        };
        out.push_str(&format!(
            "\n[[host.{host}.expect]]\nposture = \"{SEALED}\"\ndirection = \"{direction}\"\n\
             traffic = {traffic}\n{to}egress = [\"!{role}\"]\nevery-packet = true\n{besides}\
             verdict = \"deny\"\n"
        ));
    };
    let any = || list(["any".to_owned()]);
    let others = list(of.keys().map(|address| format!("!{address}")));
    expect("outbound", format!("to = {others}\n"), any());
    for (address, traffic) in of.iter().filter(|it| !it.1.iter().any(|term| term == "any")) {
        let rest = ["any".to_owned()].into_iter().chain(traffic.iter().map(|it| format!("!{it}")));
        expect("outbound", format!("to = [\"{address}\"]\n"), list(rest));
    }
    expect("forwarded", String::new(), any());
}
