//! What commands can write their results as.

use super::global::COMMON;
use crate::render::Format;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Arg, ArgMatches, Command, ValueEnum};

/// The place of `--format` among the options of every command.
const FORMAT: usize = 4;

/// What a command can write its result as; where nothing is said of a part of one, what the whole can.
fn formats(name: &str) -> &'static [Format] {
    match name {
        "report" => &[Format::Text, Format::Json, Format::Html, Format::Csv, Format::Markdown],
        "callers" => &[Format::Text, Format::Json, Format::Csv, Format::Openmetrics],
        "fleet status" => &[Format::Text, Format::Json, Format::Html, Format::Openmetrics],
        "status" | "reach" => &[Format::Text, Format::Json, Format::Openmetrics],
        "review" => &[Format::Text, Format::Json, Format::Sarif, Format::Junit],
        _ => match name.rsplit_once(' ') {
            Some((above, _)) => formats(above),
            None => &[Format::Text, Format::Json],
        },
    }
}

/// The command of that name, with only the formats that it can write: in its help, and for clap to take.
pub fn with_formats(command: Command, name: &str) -> Command {
    let formats = formats(name);
    let values = formats.iter().filter_map(ValueEnum::to_possible_value);
    let parser = PossibleValuesParser::new(values).try_map(|word| Format::from_str(&word, false));
    let format = Arg::new("format")
        .long("format")
        .value_name("FORMAT")
        .help("How results are written")
        .help_heading(COMMON)
        .display_order(FORMAT)
        .default_value("text")
        .value_parser(parser);
    let command = command.mut_subcommands(|part| {
        let name = format!("{name} {}", part.get_name());
        with_formats(part, &name)
    });
    command.arg(format)
}

/// What the command can write that some words name, as far as they name one.
pub fn formats_of(matches: &ArgMatches) -> (String, &'static [Format]) {
    let mut name = String::new();
    let mut matches = matches;
    while let Some((part, inner)) = matches.subcommand() {
        if !name.is_empty() {
            name.push(' ');
        }
        name.push_str(part);
        matches = inner;
    }
    let known = formats(&name);
    (name, known)
}
