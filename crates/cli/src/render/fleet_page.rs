//! How things stand with a fleet, as one page that needs nothing else.

use super::clean;
use super::report::LOOK;
use super::text::span;
use maud::{DOCTYPE, Markup, PreEscaped, html};
use tipstaff_app::fleet::{HostStands, Order, Overview};
use tipstaff_app::grouped;
use tipstaff_app::vocabulary::Stands;

/// How things stand with all hosts, as a page.
pub fn fleet_page(report: &Overview) -> String {
    let made = &report.at;
    let page = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta name="color-scheme" content="light dark";
                title { "Fleet " (clean(&report.fleet)) ": what each host has" }
                style { (PreEscaped(LOOK)) }
            }
            body {
                header {
                    h1 { "Fleet " (clean(&report.fleet)) }
                    p.lead { (counts(&report.hosts)) }
                    p.made {
                        @match report.newest {
                            Some(newest) => { "Number " (newest) " is the newest that is sealed. " }
                            None => "Nothing is sealed that counts. ",
                        }
                        "Made " time datetime=(made) { (made) } " by Tipstaff " (env!("CARGO_PKG_VERSION")) "."
                    }
                }
                main {
                    @if let Some(order) = &report.order { (ordered(order)) }
                    @if !report.remarks.is_empty() {
                        section {
                            h2 { "To be known" }
                            ul.bad { @for line in &report.remarks { li { (clean(line)) } } }
                        }
                    }
                    section {
                        h2 { "What each host has" }
                        (hosts(&report.hosts))
                    }
                }
            }
        }
    };
    page.into_string()
}

fn look(stands: Stands) -> &'static str {
    match stands {
        Stands::Well => "good",
        Stands::Behind | Stands::Waits => "warn",
        _ => "bad",
    }
}

fn counts(hosts: &[HostStands]) -> Markup {
    let count = |word: Stands| hosts.iter().filter(|it| it.stands == word).count();
    html! {
        @for &stands in Stands::ALL {
            @if count(stands) > 0 {
                span class=(format!("mark {}", look(stands))) {
                    (grouped(count(stands) as u64)) " " (stands.as_str())
                }
                " "
            }
        }
        @if hosts.is_empty() { span.mark.warn { "no hosts" } }
    }
}

fn ordered(order: &Order) -> Markup {
    let whom = match (order.all, &order.hosts[..]) {
        (true, _) => "all hosts".to_owned(),
        (false, hosts) => hosts.iter().map(|it| clean(it)).collect::<Vec<_>>().join(", "),
    };
    html! {
        section {
            h2 { "What is rolled out" }
            p {
                "Number " (order.number) " to " (whom) ", since "
                time datetime=(order.at) { (clean(&order.at)) }
                @if order.held {
                    ", " b.bad { "held" }
                    @if !order.why.is_empty() { ": " (clean(&order.why)) }
                }
                "."
            }
        }
    }
}

fn hosts(hosts: &[HostStands]) -> Markup {
    let number = |it: Option<u64>| it.map_or("-".to_owned(), |it| it.to_string());
    html! {
        div.wide {
            table.list {
                thead {
                    tr {
                        @for name in [
                            "host", "stands", "has", "should", "since", "in force", "heard", "findings", "why",
                        ] {
                            th scope="col" { (name) }
                        }
                    }
                }
                tbody { @for host in hosts { (row(host, &number)) } }
            }
        }
    }
}

fn row(host: &HostStands, number: &dyn Fn(Option<u64>) -> String) -> Markup {
    let said = host.said.as_ref();
    let since = said.and_then(|it| it.has.as_ref()).map_or("-", |it| it.since.as_str());
    let in_force = match said.and_then(|it| it.in_force) {
        Some(true) => "yes",
        Some(false) => "no",
        None => "not known",
    };
    let findings = said.and_then(|it| it.findings).map_or("-".to_owned(), |it| it.to_string());
    html! {
        tr {
            th scope="row" { (clean(&host.host)) }
            td { span class=(format!("mark {}", look(host.stands))) { (host.stands.as_str()) } }
            td { (number(host.has())) }
            td { (number(host.should)) }
            td { (clean(since)) }
            td { (in_force) }
            td { (host.heard.map_or("never".to_owned(), |it| format!("{} ago", span(it)))) }
            td { (findings) }
            td { (clean(host.why.as_deref().unwrap_or_default())) }
        }
    }
}
