//! Labels with a section: what every host that has them gets beside its own.

use super::super::model::{Host, LabelSection, Used};
use super::super::table::{Reader, Table, Text};
use super::super::terms::Names;
use super::super::{Origin, Source};
use super::bundle::{Bundles, Unfolded, fits_not, rule_names};
use super::common::{accepted, check_name, choice};
use super::expect::expectation;
use super::posture::check_shared;
use super::settings::{Part, Settings};
use super::turned_away::turned_away;
use crate::space::AddressSet;

/// The labels of all files that have a section, as tables: what they mean depends on the host.
#[derive(Default)]
pub(super) struct Labels<'t, 'i> {
    written: Vec<Written<'t, 'i>>,
}

struct Written<'t, 'i> {
    name: String,
    table: Table<'t, 'i>,
    behind: bool,
    /// The text it stands in.
    source: &'t Source,
}

impl<'t, 'i> Labels<'t, 'i> {
    /// Takes in the labels of one file.
    pub(super) fn read(
        &mut self,
        reader: &mut Reader<'t>,
        file: &Table<'t, 'i>,
    ) -> Vec<LabelSection> {
        let mut labels = Vec::new();
        for (name, table) in file.named(reader, "label") {
            check_name(reader, "label", &name);
            let position = table.text(reader, "position");
            let position =
                position.as_ref().and_then(|it| choice(reader, it, &["ahead", "behind"]));
            labels.push(LabelSection {
                name: name.value.clone(),
                rules: rule_names(&table.tables(&mut Reader::new(reader.source), "rule")),
                why: table.text(reader, "why").map(|text| text.value),
                accepted: accepted(reader, &table),
                origin: reader.origin(name.span.clone()),
            });
            let behind = position == Some("behind");
            let source = reader.source;
            self.written.push(Written { name: name.value, table, behind, source });
        }
        labels
    }

    /// Reports what is wrong with the labels of the reader's file, whatever the host: here, once.
    pub(super) fn check(
        &self,
        reader: &mut Reader<'_>,
        names: &Names<'_>,
        bundles: &Bundles<'_, '_>,
    ) {
        let anybody = AddressSet::full();
        let names =
            Names { this_host: Some(&anybody), on_link: Some(&anybody), any_host: true, ..*names };
        for label in self.written.iter().filter(|it| it.source.name == reader.source.name) {
            let mut unfolded = Unfolded::default();
            for table in label.table.tables(reader, "rule") {
                bundles.unfold(reader, &names, &table, &mut unfolded);
            }
            label.part(reader, &names, label.name.clone(), None);
        }
    }

    /// Reports postures that labels of the reader's file name, and that no host with the label has.
    pub(super) fn check_postures(&self, reader: &mut Reader<'_>, hosts: &[Host]) {
        for label in self.written.iter().filter(|it| it.source.name == reader.source.name) {
            let has_it = |it: &&Host| it.labels.contains(&label.name);
            check_shared(reader, &label.table, hosts.iter().filter(has_it));
        }
    }

    fn get(&self, name: &str) -> Option<&Written<'t, 'i>> {
        self.written.iter().find(|it| it.name == name)
    }

    /// What the host's labels bring, their rules aside, in the order in which the host has them.
    pub(super) fn parts(
        &self,
        reader: &mut Reader<'_>,
        names: &Names<'_>,
        labels: &[Text],
    ) -> Vec<Part> {
        let mut parts = Vec::new();
        for label in labels {
            let Some(written) = self.get(&label.value) else { continue };
            reader.uses(Used::Label, label);
            let origin = reader.origin(label.inner());
            let mut inner = Reader::new(written.source);
            parts.push(written.part(&mut inner, names, label.value.clone(), Some(origin.clone())));
            fits_not(reader, inner.problems, &format!("label `{}`", label.value), &origin);
        }
        parts
    }

    /// Adds the rules that the host's labels bring ahead of its own, or behind them.
    pub(super) fn unfold(
        &self,
        reader: &mut Reader<'_>,
        names: &Names<'_>,
        (labels, behind): (&[Text], bool),
        bundles: &Bundles<'_, '_>,
        into: &mut Unfolded,
    ) {
        for label in labels {
            let Some(written) = self.get(&label.value).filter(|it| it.behind == behind) else {
                continue;
            };
            let origin = reader.origin(label.inner());
            let first = into.rules.len();
            let mut inner = Reader::new(written.source);
            for table in written.table.tables(&mut Reader::new(written.source), "rule") {
                bundles.unfold_inner(&mut inner, names, &table, into, &origin);
            }
            fits_not(reader, inner.problems, &format!("label `{}`", label.value), &origin);
            for rule in into.rules.iter_mut().skip(first) {
                rule.label = Some(label.value.clone());
            }
        }
    }
}

impl Written<'_, '_> {
    fn part(
        &self,
        reader: &mut Reader<'_>,
        names: &Names<'_>,
        label: String,
        origin: Option<Origin>,
    ) -> Part {
        let tables = self.table.tables(reader, "expect");
        let mut expectations: Vec<_> =
            tables.iter().filter_map(|table| expectation(reader, names, table)).collect();
        for expectation in &mut expectations {
            expectation.label = Some(label.clone());
        }
        Part {
            label,
            origin: origin.unwrap_or_else(|| reader.origin(self.table.span.clone())),
            settings: Settings::read(reader, &self.table),
            expectations,
            turned_away: turned_away(reader, names, &self.table),
        }
    }
}
