//! What commands can write their results as.

use super::global::COMMON;
use crate::render::Format;
use clap::builder::{PossibleValuesParser, TypedValueParser};
use clap::{Arg, Command, ValueEnum};

/// The place of `--format` among the options of every command.
const FORMAT: usize = 4;

/// What a command can write its result as.
pub fn formats(name: &str) -> &'static [Format] {
    match name {
        "report" => &[Format::Text, Format::Json, Format::Html, Format::Csv, Format::Markdown],
        "callers" => &[Format::Text, Format::Json, Format::Csv, Format::Openmetrics],
        "status" | "reach" => &[Format::Text, Format::Json, Format::Openmetrics],
        "review" => &[Format::Text, Format::Json, Format::Sarif, Format::Junit],
        _ => &[Format::Text, Format::Json],
    }
}

/// The command with only these formats: in its help, and for clap to take.
pub fn with_formats(command: Command, formats: &'static [Format]) -> Command {
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
    command.mut_subcommands(|part| with_formats(part, formats)).arg(format)
}
