//! A page for each command, from the same definitions that the program reads its line by.

use clap::Command;
use clap_mangen::Man;

/// The pages as file name and text.
pub fn pages(mut command: Command) -> Vec<(String, String)> {
    command.build();
    let mut pages = Vec::new();
    of(&command, "tipstaff", &mut pages);
    pages
}

fn of(command: &Command, name: &str, pages: &mut Vec<(String, String)>) {
    let page = Man::new(command.clone().disable_help_subcommand(true))
        .title(name.to_uppercase())
        .section("8")
        .source(format!("tipstaff {}", env!("CARGO_PKG_VERSION")))
        .manual("Tipstaff")
        .date("");
    let mut text = Vec::new();
    // Writing to memory does not fail.
    if page.render(&mut text).is_ok() {
        let mut text = String::from_utf8_lossy(&text).into_owned();
        if name == "tipstaff" {
            text.push_str(".SH \"SEE ALSO\"\n\\fBtipstaff-policy\\fR(5)\n");
        }
        pages.push((format!("{name}.8"), text));
    }
    for part in command.get_subcommands().filter(|it| !it.is_hide_set() && it.get_name() != "help")
    {
        of(part, &format!("{name}-{}", part.get_name()), pages);
    }
}
