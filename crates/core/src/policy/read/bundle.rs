//! Bundles: lists of rules that hosts, and other bundles, take in at a place of their choice.

use super::super::model::{Bundle, Rule, Use, Used};
use super::super::table::{Reader, Table, Text};
use super::super::terms::Names;
use super::super::{Diagnostic, Origin, Source, nearest};
use super::common::{accepted, check_name};
use super::rule::rule;
use crate::hands::{Hands, each};
use crate::space::AddressSet;
use std::collections::HashMap;

const CYCLE: &str = "bundle-cycle";
/// A host has at most so many rules by way of bundles.
const MOST: u64 = 1_000_000;
/// So many names that are taken are told one by one.
const TOLD: usize = 100;

/// The bundles of a file, as tables: what they mean depends on the host that uses them.
pub(super) struct Bundles<'t, 'i> {
    bundles: Vec<Entry<'t, 'i>>,
}

/// One bundle while the policy is read.
struct Entry<'t, 'i> {
    name: Text,
    rules: Vec<Table<'t, 'i>>,
    /// The text it stands in.
    source: &'t Source,
}

/// Rules of one host, or of one bundle, in order.
#[derive(Default)]
pub(super) struct Unfolded {
    pub rules: Vec<Rule>,
    /// Where each name was first used.
    first_of: HashMap<String, Origin>,
    /// The bundles that are being unfolded, outermost first.
    open: Vec<String>,
    /// How many names were taken already.
    taken: usize,
}

impl<'t, 'i> Bundles<'t, 'i> {
    /// A shelf that holds no bundle yet.
    pub(super) fn new() -> Self {
        Self { bundles: Vec::new() }
    }

    /// Takes in the bundles of one file.
    pub(super) fn read(&mut self, reader: &mut Reader<'t>, file: &Table<'t, 'i>) -> Vec<Bundle> {
        let mut written = Vec::new();
        for (name, table) in file.named(reader, "bundle") {
            check_name(reader, "bundle", &name);
            let rules = table.tables(reader, "rule");
            written.push(Bundle {
                name: name.value.clone(),
                rules: rule_names(&rules),
                why: table.text(reader, "why").map(|text| text.value),
                accepted: accepted(reader, &table),
                origin: reader.origin(name.span.clone()),
            });
            self.bundles.push(Entry { name, rules, source: reader.source });
        }
        written
    }

    /// Reports what is wrong with the bundles of the reader's file, whatever the host: here, once.
    pub(super) fn check(&self, reader: &mut Reader<'_>, names: &Names<'_>) {
        // Any address may turn out to be the host's own, or on its link.
        let anybody = AddressSet::full();
        let names =
            Names { this_host: Some(&anybody), on_link: Some(&anybody), any_host: true, ..*names };
        for bundle in self.bundles.iter().filter(|it| it.source.name == reader.source.name) {
            let open = vec![bundle.name.value.clone()];
            let mut unfolded = Unfolded { open, ..Unfolded::default() };
            for table in &bundle.rules {
                self.unfold(reader, &names, table, &mut unfolded);
            }
        }
    }

    /// How many rules a bundle stands for, with those of bundles that it takes in; a cycle is told
    /// elsewhere.
    fn size(&self, name: &str) -> u64 {
        self.size_of(name, &mut HashMap::new())
    }

    fn size_of(&self, name: &str, known: &mut HashMap<String, u64>) -> u64 {
        if let Some(&size) = known.get(name) {
            return size;
        }
        let Some(bundle) = self.get(name) else { return 0 };
        // Whatever leads back here counts nothing more.
        known.insert(name.to_owned(), 0);
        let size = bundle.rules.iter().fold(0u64, |all, table| {
            let one = match table.plain_text("use") {
                Some(used) => self.size_of(used, known),
                None => 1,
            };
            all.saturating_add(one)
        });
        known.insert(name.to_owned(), size);
        size
    }

    fn get(&self, name: &str) -> Option<&Entry<'t, 'i>> {
        self.bundles.iter().find(|bundle| bundle.name.value == name)
    }

    /// Adds what all the `rule` sections of a table stand for, in their order.
    pub(super) fn unfold_all(
        &self,
        hands: &impl Hands,
        reader: &mut Reader<'_>,
        names: &Names<'_>,
        table: &Table<'_, '_>,
        into: &mut Unfolded,
    ) {
        let sections = table.tables(reader, "rule");
        let source = reader.source;
        let ahead = each(hands, &sections, &|section| read_ahead(source, names, section));
        into.rules.reserve(sections.len());
        for (section, ahead) in sections.iter().zip(ahead) {
            match ahead.filter(|_| into.taken < TOLD) {
                Some((rule, uses)) => {
                    reader.uses.extend(uses);
                    let origin = rule.origin.clone();
                    into.add(reader, rule, origin);
                }
                None => self.unfold(reader, names, section, into),
            }
        }
    }

    /// Adds what one `rule` section stands for: a rule, or all rules of a bundle.
    pub(crate) fn unfold(
        &self,
        reader: &mut Reader<'_>,
        names: &Names<'_>,
        table: &Table<'_, '_>,
        into: &mut Unfolded,
    ) {
        if into.taken == TOLD {
            // What multiplies says the same again and again.
            return;
        }
        if !table.has("use") {
            if let Some(rule) = rule(reader, names, table) {
                let origin = rule.origin.clone();
                into.add(reader, rule, origin);
            }
            return;
        }
        only_use(reader, table);
        let Some(wanted) = table.text(reader, "use") else { return };
        let origin = reader.origin(wanted.inner());
        let Some(bundle) = self.get(&wanted.value) else {
            self.unknown(reader, &wanted, origin);
            return;
        };
        if into.open.contains(&wanted.value) {
            let path = format!("{} > {}", into.open.join(" > "), wanted.value);
            reader.report(
                Diagnostic::error(CYCLE, "this bundle takes itself in", origin)
                    .expected(format!("it leads back: {path}")),
            );
            return;
        }
        let size = self.size(&wanted.value);
        if size > MOST {
            reader.report(
                Diagnostic::error(
                    "too-many-rules",
                    format!("bundle `{}` unfolds to {size} rules", wanted.value),
                    origin,
                )
                .expected(format!("a host has at most {MOST}"))
                .help("bundles that take in others several times multiply"),
            );
            return;
        }
        reader.uses(Used::Bundle, &wanted);
        let paused = table.switch("paused").unwrap_or(false);
        let first = into.rules.len();
        into.open.push(wanted.value.clone());
        for table in &bundle.rules {
            let mut inner = Reader::new(bundle.source);
            self.unfold_inner(&mut inner, names, table, into, &origin);
            fits_not(reader, inner.problems, &format!("bundle `{}`", wanted.value), &origin);
        }
        into.open.pop();
        for rule in into.rules.iter_mut().skip(first) {
            rule.paused |= paused;
            rule.bundle.get_or_insert_with(|| wanted.value.clone());
        }
    }

    pub(super) fn unfold_inner(
        &self,
        inner: &mut Reader<'_>,
        names: &Names<'_>,
        table: &Table<'_, '_>,
        into: &mut Unfolded,
        used: &Origin,
    ) {
        if into.taken == TOLD {
            return;
        }
        if table.has("use") {
            self.unfold(inner, names, table, into);
        } else if let Some(rule) = rule(inner, names, table) {
            into.add(inner, rule, used.clone());
        }
    }

    fn unknown(&self, reader: &mut Reader<'_>, wanted: &Text, origin: Origin) {
        let names = || self.bundles.iter().map(|bundle| bundle.name.value.as_str());
        let message = format!("there is no bundle `{}`", wanted.value.escape_debug());
        let problem = Diagnostic::error("unknown-bundle", message, origin);
        reader.report(match nearest(&wanted.value, names()) {
            Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
            None if self.bundles.is_empty() => problem.expected("the policy has no bundles"),
            None => problem
                .expected(format!("the bundles are: {}", names().collect::<Vec<_>>().join(", "))),
        });
    }
}

/// A section that is a rule of its own and right: the rule, and the names that it uses. All else depends on what
/// stands before it.
fn read_ahead(
    source: &Source,
    names: &Names<'_>,
    section: &Table<'_, '_>,
) -> Option<(Rule, Vec<Use>)> {
    if section.has("use") {
        return None;
    }
    let mut reader = Reader::new(source);
    let rule = rule(&mut reader, names, section)?;
    reader.problems.is_empty().then_some((rule, reader.uses))
}

/// The names of rules, and of the bundles that are taken in among them.
pub(super) fn rule_names(rules: &[Table<'_, '_>]) -> Vec<String> {
    let name =
        |it: &Table<'_, '_>| it.plain_text("name").or(it.plain_text("use")).map(str::to_owned);
    rules.iter().filter_map(name).collect()
}

/// Reports what is wrong with a section of a bundle or label on this host only, where it is used.
/// Its general mistakes have been reported where it is written.
pub(super) fn fits_not(
    reader: &mut Reader<'_>,
    problems: Vec<Diagnostic>,
    wanted: &str,
    used: &Origin,
) {
    for problem in problems {
        if reader.problems.contains(&problem) {
            continue;
        }
        let here = problem.primary.as_ref().is_some_and(|label| label.origin == *used);
        // A cycle is the same wherever it is met.
        if here || problem.code == CYCLE {
            reader.report(problem);
            continue;
        }
        let message = format!("{wanted} does not fit here: {}", problem.message);
        let mut misfit = Diagnostic::error("misfit", message, used.clone());
        if let Some(label) = problem.primary {
            misfit = misfit.context(label.origin, label.text);
        }
        reader.report(misfit);
    }
}

/// A section with `use` says nothing else about traffic: the bundle does.
fn only_use(reader: &mut Reader<'_>, table: &Table<'_, '_>) {
    for key in table.spec.keys.iter().filter(|key| !["use", "paused", "why"].contains(&key.name)) {
        if let Some(span) = table.key_span(key.name) {
            let origin = reader.origin(span);
            let message = format!("`{}` does not go with `use`", key.name);
            reader.report(
                Diagnostic::error("use-and-more", message, origin)
                    .expected("the bundle's own rules say that; make this a section of its own"),
            );
        }
    }
}

impl Unfolded {
    /// No rules, but the names of these are taken.
    pub(super) fn names_only(&self) -> Self {
        Self { first_of: self.first_of.clone(), ..Self::default() }
    }

    /// Adds a rule. `origin` is where its name is to be blamed if it is taken.
    fn add(&mut self, reader: &mut Reader<'_>, rule: Rule, origin: Origin) {
        self.taken += usize::from(self.first_of.contains_key(&rule.name) && self.taken < TOLD);
        match self.first_of.get(&rule.name) {
            Some(_) if self.taken == TOLD => {}
            Some(first) => reader.report(
                Diagnostic::error(
                    "duplicate-name",
                    format!("there are two rules named `{}` here", rule.name),
                    origin,
                )
                .expected("choose another name")
                .context(first.clone(), "the first one"),
            ),
            None => {
                self.first_of.insert(rule.name.clone(), origin);
                self.rules.push(rule);
            }
        }
    }
}
