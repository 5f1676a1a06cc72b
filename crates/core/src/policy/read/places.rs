//! Named sets of addresses: what is written, what files said when they were read last, and what is left out.

use super::super::model::{Place, Service};
use super::super::table::{Reader, Table, Text};
use super::super::terms::{self, BUILT_IN_PLACES, Names};
use super::super::{Data, Diagnostic, Snapshot, Source, is_country, is_far};
use super::common::{accepted, check_name, nonempty_list};
use crate::space::AddressSet;

/// The places of all files, while they are read.
#[derive(Default)]
pub(super) struct Places<'s> {
    list: Vec<Named<'s>>,
    /// The files in which registries say whose addresses are whose.
    delegations: Vec<String>,
}

/// One of them, and what is to be left out of it.
struct Named<'s> {
    place: Place,
    except: Vec<Text>,
    source: &'s Source,
}

impl<'s> Places<'s> {
    /// Reads those of one file.
    pub(super) fn read(&mut self, reader: &mut Reader<'s>, file: &Table<'_, '_>) {
        for term in nonempty_list(reader, file, "delegations") {
            check_file(reader, &term);
            self.delegations.push(term.value);
        }
        for (name, table) in file.named(reader, "place") {
            check_name(reader, "place", &name);
            if BUILT_IN_PLACES.contains(&name.value.as_str()) {
                let origin = reader.origin(name.span.clone());
                let message = format!("`{}` is a place of the language", name.value);
                reader.report(
                    Diagnostic::error("reserved-name", message, origin)
                        .expected("choose another name"),
                );
            }
            let blocks = nonempty_list(reader, &table, "addresses");
            let addresses =
                blocks.iter().filter_map(|term| terms::block_or_range(reader, term)).collect();
            let place = Place {
                addresses,
                data: data(reader, &table),
                why: table.text(reader, "why").map(|text| text.value),
                accepted: accepted(reader, &table),
                origin: reader.origin(name.span),
                name: name.value,
            };
            let except = nonempty_list(reader, &table, "except");
            self.list.push(Named { place, except, source: reader.source });
        }
    }

    /// Adds what files said when they were read last, and takes out what is left out.
    pub(super) fn resolve(
        self,
        reader: &mut Reader<'s>,
        services: &[Service],
        snapshots: &[&Source],
    ) -> Vec<Place> {
        let mut list = self.list;
        let mut places = Vec::with_capacity(list.len());
        for named in &mut list {
            if let Some(data) = &mut named.place.data {
                data.delegations.clone_from(&self.delegations);
                no_delegations(reader, &named.place.origin, data);
                if let Some(said) = said(&named.place.name, data, snapshots) {
                    named.place.addresses = named.place.addresses.union(&said);
                }
            }
            places.push(named.place.clone());
        }
        let before = places.clone();
        let names = Names {
            places: &before,
            services,
            this_host: None,
            on_link: None,
            moving: false,
            any_host: false,
            interfaces: None,
        };
        let with_except: Vec<&str> = list
            .iter()
            .filter(|it| !it.except.is_empty())
            .map(|it| it.place.name.as_str())
            .collect();
        for (named, place) in list.iter().zip(&mut places) {
            reader.source = named.source;
            let mut out = AddressSet::empty();
            for term in &named.except {
                let found = term.value.as_str();
                if found.starts_with('!') || with_except.contains(&found) {
                    let origin = reader.origin(term.inner());
                    let message = format!("`{}` cannot be left out here", found.escape_debug());
                    reader.report(
                        Diagnostic::error("nested-except", message, origin).expected(
                            "expected an address, or a place that has no `except` itself",
                        ),
                    );
                    continue;
                }
                out = out.union(&terms::addresses(reader, &names, std::slice::from_ref(term)));
            }
            place.addresses = place.addresses.difference(&out);
        }
        places
    }
}

/// What the files of a place said when they were read last, if it is still about the same files.
fn said(name: &str, data: &mut Data, snapshots: &[&Source]) -> Option<AddressSet> {
    let source = snapshots.iter().find(|it| it.place.as_deref() == Some(name))?;
    match Snapshot::parse(source) {
        Ok(found) if found.place == name && found.of == data.definition() => {
            let empty = AddressSet::empty();
            let said = found.addresses.clone();
            data.snapshot = Some(Snapshot { addresses: empty, ..found });
            Some(said)
        }
        Ok(_) => None,
        Err(problem) => {
            data.damaged = Some(problem);
            None
        }
    }
}

fn data(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Option<Data> {
    let files = nonempty_list(reader, table, "file");
    let countries = nonempty_list(reader, table, "country");
    for file in &files {
        check_file(reader, file);
    }
    for country in &countries {
        if !is_country(&country.value) {
            let message =
                format!("`{}` is not the code of a country", country.value.escape_debug());
            let problem = Diagnostic::error("bad-country", message, reader.origin(country.inner()))
                .expected("expected two capital letters (ISO 3166-1 alpha-2), such as XA");
            let upper = country.value.to_ascii_uppercase();
            reader.report(match is_country(&upper) {
                true => problem.replace_with(upper),
                false => problem,
            });
        }
    }
    let column = table.text(reader, "column");
    if let Some(column) = column.as_ref().filter(|_| files.is_empty()) {
        let origin = reader.origin(column.inner());
        reader.report(
            Diagnostic::error("column-of-nothing", "there is no file to have that column", origin)
                .expected("needs `file` beside it"),
        );
    }
    if files.is_empty() && countries.is_empty() {
        // What is there but unusable has been told.
        let any = ["addresses", "file", "country"].iter().any(|it| table.has(it));
        if !any {
            let origin = reader.origin(table.span.clone());
            reader.report(
                Diagnostic::error("missing-key", "the place has no addresses", origin).expected(
                    "needs `addresses = [\"198.51.100.0/27\"]`, or a `file` or `country` to take them from",
                ),
            );
        }
        return None;
    }
    let values = |list: Vec<Text>| list.into_iter().map(|it| it.value).collect();
    Some(Data {
        files: values(files),
        column: column.map(|it| it.value),
        countries: values(countries),
        ..Data::default()
    })
}

/// A country needs files that say what is its.
fn no_delegations(reader: &mut Reader<'_>, origin: &super::Origin, data: &Data) {
    if data.countries.is_empty() || !data.delegations.is_empty() {
        return;
    }
    let message = "no file says which addresses are a country's";
    reader.problems.push(
        Diagnostic::error("no-delegations", message, origin.clone())
            .expected("needs `delegations = [\"FILE\"]` at the head of a file of the policy")
            .help("the registries publish them, in the extended delegation format"),
    );
}

/// A path or an https address; one that is neither cannot be read later.
fn check_file(reader: &mut Reader<'_>, file: &Text) {
    let found = file.value.as_str();
    let control = found.contains(char::is_control);
    let scheme = found.contains("://") && !is_far(found);
    if !found.trim().is_empty() && !control && !scheme {
        return;
    }
    let message = format!("`{}` is no file that can be read", found.escape_debug());
    let expected = match scheme {
        true => "over the network only https will do: nothing else proves who answers",
        false => "expected a path, or an address such as https://lists.example/nuisance.txt",
    };
    let origin = reader.origin(file.inner());
    reader.report(Diagnostic::error("bad-file", message, origin).expected(expected));
}
