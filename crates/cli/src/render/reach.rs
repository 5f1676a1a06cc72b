//! `reach` as text: listeners down, places across.

use super::show::verdict_style;
use super::{Cell, Screen, Style, Table, came, clean, wrap};
use tipstaff_app::By;
use tipstaff_app::reach::{Entry, From, Part, ProbeWords, Report};
use tipstaff_app::vocabulary::{Fate, Sight, Verdict, Version, Word};
use tipstaff_core::policy::ANYWHERE;

/// The mark of a cell whose witnesses disagree.
const MARK: &str = "!";

/// The report as text.
pub fn reach(report: &Report, screen: &Screen) -> String {
    let heading = format!("{}: what listens, and who can reach it", clean(&report.host));
    let mut text = format!("{}\n\n", screen.paint(Style::Strong, &heading));
    if report.listeners.is_empty() {
        text.push_str("  nothing listens here\n");
    } else {
        text.push_str(&matrix(report, screen));
        text.push_str(&legend(report, screen));
    }
    text.push_str(&pings(report, screen));
    for stopped in &report.stopped_on_the_way {
        let line = format!("{}: something on the way stops it", clean(stopped));
        for line in wrap(&line, screen.width) {
            text.push_str(&format!("{}\n", screen.paint(Style::Mixed, &line)));
        }
    }
    text.push_str(&findings(report, screen));
    for unknown in &report.unknown {
        let lead = screen.paint(Style::Mixed, "not known:");
        text.push_str(&format!("{lead} {}\n", clean(unknown)));
    }
    text.push_str(&disagreements(report, screen));
    text
}

fn matrix(report: &Report, screen: &Screen) -> String {
    let mut places: Vec<&str> = Vec::new();
    for from in report.listeners.iter().flat_map(|entry| &entry.from) {
        if !places.contains(&from.place.as_str()) {
            places.push(&from.place);
        }
    }
    let came = report.came_within_seconds.is_some();
    let titles = ["port", "listener"].into_iter().chain(came.then_some("came"));
    let mut table = Table::new(titles.chain(places.iter().copied()));
    for entry in &report.listeners {
        let mut cells =
            vec![meant(Cell::new(ports(entry), Style::Strong), &entry.meanings), listener(entry)];
        cells.extend(came.then(|| came::cell(entry.came.as_ref())));
        cells.extend(places.iter().map(|place| {
            let views: Vec<&From> = entry.from.iter().filter(|from| from.place == *place).collect();
            view(&views)
        }));
        table.row(cells);
    }
    table.render(screen)
}

fn ports(entry: &Entry) -> String {
    let ports = entry.published.clone().unwrap_or_else(|| entry.port.to_string());
    format!("{ports}/{}", entry.protocol)
}

/// Ports, and what they are for.
pub fn meant(ports: Cell, meanings: &[String]) -> Cell {
    meanings.iter().fold(ports, |cell, it| cell.line(it, Style::Faint))
}

fn listener(entry: &Entry) -> Cell {
    if entry.published.is_some() {
        return led(entry);
    }
    let program = entry.program.as_deref().unwrap_or("(program not known)");
    // Programs are told apart by their file's name; the whole path is in the JSON form.
    let program = program.rsplit('/').next().unwrap_or(program);
    let who = match entry.pid {
        Some(pid) => format!("pid {pid}, {}", entry.user),
        None => entry.user.clone(),
    };
    let cell = Cell::new(program, Style::Plain);
    let cell = match entry.taken_for.as_deref() {
        None => cell,
        Some("nobody") => cell.line("its socket is nobody's", Style::Mixed),
        Some(other) => {
            let other = other.rsplit('/').next().unwrap_or(other);
            cell.line(format!("taken for {other}"), Style::Mixed)
        }
    };
    cell.line(bound(entry), Style::Faint).line(who, Style::Faint)
}

/// Where a port leads at which nobody listens.
fn led(entry: &Entry) -> Cell {
    let parts = || entry.from.iter().flat_map(|it| &it.parts);
    let unique = |all: Vec<String>| {
        let mut seen: Vec<String> = Vec::new();
        all.into_iter().for_each(|it| {
            if !seen.contains(&it) {
                seen.push(it);
            }
        });
        seen
    };
    let mut cell = Cell::new("nobody here", Style::Faint);
    let targets = unique(parts().filter_map(|it| it.led_to.clone()).collect());
    for to in &targets {
        cell = cell.line(format!("led to {to}"), Style::Mixed);
    }
    let by = unique(parts().filter_map(|it| it.led_by.clone()).collect());
    cell = cell.line(format!("by table {}", clean(&by.join(", "))), Style::Faint);
    for to in &targets {
        let there = || parts().filter(|it| it.led_to.as_ref() == Some(to));
        let program = there().find_map(|it| it.led_to_program.as_ref());
        let name = program.map(|it| it.rsplit('/').next().unwrap_or(it));
        if let Some(pid) = there().find_map(|it| it.led_to_pid) {
            let who = clean(name.unwrap_or("(program not known)"));
            cell = cell.line(format!("there: {who}, pid {pid}"), Style::Faint);
        }
    }
    cell
}

fn bound(entry: &Entry) -> String {
    match (entry.address.as_str(), entry.versions.as_slice()) {
        ("0.0.0.0" | "::", versions) => {
            format!("all {}", versions.iter().map(|it| it.as_str()).collect::<Vec<_>>().join("+"))
        }
        (address, _) => address.to_owned(),
    }
}

/// One cell: what senders of a place fare. IP versions that fare alike share their lines.
fn view(views: &[&From]) -> Cell {
    let mut groups: Vec<(Vec<&From>, Vec<Fare<'_>>)> = Vec::new();
    for from in views {
        let fares: Vec<Fare<'_>> = from.parts.iter().map(Fare::of).collect();
        match groups.iter_mut().find(|group| group.1 == fares) {
            Some(group) => group.0.push(from),
            None => groups.push((vec![from], fares)),
        }
    }
    if groups.is_empty() {
        return Cell::new("-", Style::Faint);
    }
    let split = groups.len() > 1;
    let mut cell = Cell::default();
    for (alike, fares) in &groups {
        let version = match (split, alike[0].version) {
            (false, _) => "",
            (true, Version::V4) => "v4 ",
            (true, Version::V6) => "v6 ",
        };
        for (at, fare) in fares.iter().enumerate() {
            let whom = (fares.len() > 1).then(|| whom(alike, at));
            let lead = whom.map(|whom| format!("{whom}: ")).unwrap_or_default();
            let words = fare.words();
            cell = cell
                .line(format!("{version}{lead}{words}"), fare.style())
                .line(short(&fare.by.name), Style::Faint);
        }
    }
    cell
}

/// What senders fare, in all that a cell shows.
#[derive(PartialEq)]
struct Fare<'a> {
    interfaces: Option<&'a Vec<String>>,
    policy: Word,
    kernel: Word,
    copy: Option<Fate>,
    observed: Option<Sight>,
    agree: Option<bool>,
    limited: bool,
    by: &'a By,
}

impl<'a> Fare<'a> {
    fn of(part: &'a Part) -> Self {
        Self {
            interfaces: part.interfaces.as_ref(),
            policy: part.policy,
            kernel: part.kernel,
            copy: part.copy,
            observed: part.observed,
            agree: part.agree,
            limited: part.limited,
            by: &part.decided_by,
        }
    }

    fn words(&self) -> String {
        let kernel_differs = self.kernel != self.policy && self.kernel != Word::Unknown;
        let mark = if self.agree == Some(false) { format!("{MARK} ") } else { String::new() };
        let limit = if self.limited { " (rate)" } else { "" };
        let kernel =
            if kernel_differs { format!(", kernel {}", self.kernel) } else { String::new() };
        // Where the copy meets what the policy says there is nothing more to tell.
        let alike = |copy: &Fate| {
            matches!(
                (self.policy, copy),
                (Word::Allow, Fate::Open | Fate::PassedOn)
                    | (Word::Deny, Fate::Denied | Fate::Lost)
                    | (Word::Reject, Fate::Rejected)
            )
        };
        let copy = self.copy.filter(|it| self.agree == Some(false) && !alike(it));
        let copy = copy.map(|it| format!(", copy {it}")).unwrap_or_default();
        let observed = self.observed.map(|it| format!(", {it}")).unwrap_or_default();
        format!("{mark}{}{limit}{kernel}{copy}{observed}", self.policy)
    }

    fn style(&self) -> Style {
        if self.agree == Some(false) { Style::Wrong } else { word_style(self.policy) }
    }
}

fn word_style(word: Word) -> Style {
    match word {
        Word::Allow => verdict_style(Verdict::Allow),
        Word::Deny => verdict_style(Verdict::Deny),
        Word::Reject | Word::Partly | Word::Unknown => Style::Mixed,
    }
}

/// The senders of one part: by address if they are few, and by interface if that matters.
fn whom(alike: &[&From], part: usize) -> String {
    let ways = alike[0].parts[part].interfaces.as_ref();
    match ways.map(|ways| ways.join(" or ")) {
        Some(ways) if alike[0].covers_all(part) => format!("by {ways}"),
        Some(ways) => format!("{} by {ways}", addresses(alike, part)),
        None => addresses(alike, part),
    }
}

/// The senders of a part. Only the last, of whom there are most, may be those that the cell does not name.
fn addresses(alike: &[&From], part: usize) -> String {
    const WIDE: usize = 40;
    let mut senders: Vec<&str> = Vec::new();
    for from in alike {
        let words = from.parts[part].senders.as_str();
        // An exception and what it is left out of are one.
        senders.extend(if words.contains(' ') && !words.contains("except") {
            words.split(", ").collect()
        } else {
            vec![words]
        });
    }
    let whole = senders.join(", ");
    let last = alike.iter().all(|from| from.parts.len() == part + 1);
    match senders.len() {
        _ if last && (whole.len() > WIDE || senders.len() > 2) => "others".into(),
        0..=2 => whole,
        more => format!("{} and {} more", senders[..2].join(", "), more - 2),
    }
}

/// The direction goes without saying here: all of this is inbound.
fn short(name: &str) -> &str {
    if name == "default/inbound" { "default" } else { name }
}

fn legend(report: &Report, screen: &Screen) -> String {
    let probed =
        report.listeners.iter().flat_map(|entry| &entry.from).any(|from| from.observed.is_some());
    let first = if probed {
        "A cell: the policy's verdict, what a real probe met, and below it who decides."
    } else {
        "A cell: the policy's verdict, and below it who decides. No probe was sent: name a \
         vantage with --vantage."
    };
    let anywhere = report.listeners.iter().flat_map(|it| &it.from).any(|it| it.place == ANYWHERE);
    let copied = report.copied.then_some(
        "A copy of this machine, all its rules included, was tried in a lab; it is named where it \
         disagrees.",
    );
    let second = anywhere.then_some(
        "anywhere: everybody who is at none of the policy's places; others: those of a place whom \
         its cell does not name.",
    );
    let taken = report.listeners.iter().any(|it| it.taken_for.is_some()).then_some(
        "Whose a socket is goes by its mark, for rules about programs and users: `tipstaff programs` \
         says why it is another's.",
    );
    let came = came::note(report.came_within_seconds);
    let mut text = String::from("\n");
    for line in [Some(first), copied, second, came.as_deref(), taken]
        .into_iter()
        .flatten()
        .flat_map(|it| wrap(it, screen.width))
    {
        text.push_str(&format!("{}\n", screen.paint(Style::Faint, &line)));
    }
    text
}

/// Whom the host answers pings, in a line for each answer.
fn pings(report: &Report, screen: &Screen) -> String {
    /// A place, and the IP versions.
    type Callers<'r> = (&'r str, Vec<Version>);
    let mut groups: Vec<(String, Vec<Callers<'_>>)> = Vec::new();
    for from in &report.pings {
        // Many pings at once meet the rate; what each met is in the JSON form.
        let fares: Vec<String> = from
            .parts
            .iter()
            .map(|part| {
                let quiet = part.agree != Some(false);
                let fare = Fare::of(part);
                Fare { observed: fare.observed.filter(|_| !quiet), ..fare }.words()
            })
            .collect();
        let words = match &fares[..] {
            [first, rest @ ..] if rest.iter().all(|it| it == first) => first.clone(),
            _ => "partly".into(),
        };
        let at = groups.iter().position(|group| group.0 == words).unwrap_or_else(|| {
            groups.push((words, Vec::new()));
            groups.len() - 1
        });
        let places = &mut groups[at].1;
        match places.iter_mut().find(|it| it.0 == from.place) {
            Some(place) => place.1.push(from.version),
            None => places.push((&from.place, vec![from.version])),
        }
    }
    let mut text = String::new();
    for (words, places) in groups {
        let who = places.iter().map(|(place, versions)| match versions[..] {
            [only] => format!("{place} ({only})"),
            _ => (*place).to_owned(),
        });
        let line = format!("pings: {words}: {}", who.collect::<Vec<_>>().join(", "));
        for line in wrap(&clean(&line), screen.width) {
            text.push_str(&format!("{line}\n"));
        }
    }
    text
}

/// What rules and listeners have to do with each other.
fn findings(report: &Report, screen: &Screen) -> String {
    let mut text = String::new();
    for finding in report.findings.iter().filter(|it| it.accepted.is_none()) {
        let line = format!("{} {}: {}", finding.severity, finding.subject, finding.message);
        for (at, line) in wrap(&clean(&line), screen.width.saturating_sub(2)).iter().enumerate() {
            let lead = if at == 0 { "" } else { "  " };
            text.push_str(&format!("{lead}{line}\n"));
        }
    }
    text
}

fn probe(probe: &ProbeWords) -> String {
    let ProbeWords { source, destination, met, evidence, explained, .. } = probe;
    let explained = explained.as_ref().map(|it| format!(": {it}")).unwrap_or_default();
    let (evidence, explained) = (clean(evidence), clean(&explained));
    format!("; a probe from {source} to {destination} met {met} ({evidence}{explained})")
}

fn disagreements(report: &Report, screen: &Screen) -> String {
    let ports = report.listeners.iter().flat_map(|it| {
        it.from.iter().map(move |from| (format!("{}/{}", it.port, it.protocol), from))
    });
    let pings = report.pings.iter().map(|from| ("ping".to_owned(), from));
    let mut text = String::new();
    let mut count = 0;
    for (what, from) in ports.chain(pings) {
        for part in from.parts.iter().filter(|part| part.agree == Some(false)) {
            count += 1;
            text.push_str(&format!(
                "  {MARK} {what} from {} ({}): the policy says {} ({}), the kernel {}{}{}{}\n",
                clean(&from.place),
                from.version,
                part.policy,
                clean(&part.decided_by.name),
                part.kernel,
                part.kernel_decided_by
                    .as_ref()
                    .map(|by| format!(" ({})", clean(by)))
                    .unwrap_or_default(),
                part.copy.map(|it| format!(", a copy {it}")).unwrap_or_default(),
                part.probes.iter().map(probe).collect::<String>()
            ));
        }
    }
    if count == 0 {
        return text;
    }
    let words = match count {
        1 => "1 disagreement".to_owned(),
        count => format!("{count} disagreements"),
    };
    format!("{} between the witnesses:\n{text}", screen.paint(Style::Wrong, &words))
}
