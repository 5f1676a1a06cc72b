//! What the output device can do.

use anstyle::{AnsiColor, Style as Ansi};
use clap::ValueEnum;
use std::env;
use std::fmt::Write as _;
use std::io::IsTerminal;

/// When colours are used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ColorWhen {
    /// On a terminal, unless NO_COLOR is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The meaning of a piece of text; each also has words, so that colour is never alone.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Style {
    /// Nothing special.
    #[default]
    Plain,
    /// Headings and names that matter.
    Strong,
    /// Less important.
    Faint,
    /// Allowed, open, in order.
    Good,
    /// Denied, silent.
    Closed,
    /// Rejected, limited, doubtful.
    Mixed,
    /// Wrong.
    Wrong,
}

/// A device to write on.
#[derive(Clone, Copy, Debug)]
pub struct Screen {
    color: bool,
    /// Its width in columns.
    pub width: usize,
    /// Whether everything is told, down to its smallest parts.
    pub in_full: bool,
}

/// The width of output that does not go to a terminal.
const USUAL_WIDTH: usize = 100;
const NARROWEST: usize = 40;

impl Screen {
    /// Standard output.
    pub fn of_stdout(color: ColorWhen) -> Self {
        let out = std::io::stdout();
        Self::new(color, out.is_terminal(), rustix::termios::tcgetwinsize(&out).ok())
    }

    /// Standard error.
    pub fn of_stderr(color: ColorWhen) -> Self {
        let out = std::io::stderr();
        Self::new(color, out.is_terminal(), rustix::termios::tcgetwinsize(&out).ok())
    }

    /// A screen of that width without colours.
    #[cfg(test)]
    pub fn of_width(width: usize) -> Self {
        Self { color: false, width, in_full: false }
    }

    fn new(color: ColorWhen, terminal: bool, size: Option<rustix::termios::Winsize>) -> Self {
        let set = |name| env::var_os(name).is_some_and(|value| !value.is_empty());
        let color = match color {
            ColorWhen::Always => true,
            ColorWhen::Never => false,
            ColorWhen::Auto => {
                terminal && !set("NO_COLOR") && env::var_os("TERM").is_none_or(|it| it != "dumb")
            }
        };
        let told = env::var("COLUMNS").ok().and_then(|text| text.parse().ok());
        let width = told
            .or_else(|| size.map(|size| usize::from(size.ws_col)).filter(|&width| width > 0))
            .unwrap_or(USUAL_WIDTH);
        Self { color, width: width.max(NARROWEST), in_full: false }
    }

    /// The same without colours.
    pub fn plain(self) -> Self {
        Self { color: false, ..self }
    }

    /// Whether colours are used.
    pub fn is_colored(&self) -> bool {
        self.color
    }

    /// The text, coloured if this device has colours.
    pub fn paint(&self, style: Style, text: &str) -> String {
        let mut painted = String::with_capacity(text.len());
        self.paint_into(&mut painted, style, text);
        painted
    }

    /// Adds a text in a style.
    pub fn paint_into(&self, to: &mut String, style: Style, text: &str) {
        if !self.color || style == Style::Plain || text.is_empty() {
            to.push_str(text);
            return;
        }
        let ansi = style.ansi();
        // A string takes whatever is written.
        let _ = write!(to, "{ansi}{text}{ansi:#}");
    }
}

impl Style {
    /// The escape sequences for it.
    pub fn ansi(self) -> Ansi {
        match self {
            Style::Plain => Ansi::new(),
            Style::Strong => Ansi::new().bold(),
            // Many terminals do not show "dim".
            Style::Faint => AnsiColor::BrightBlack.on_default(),
            Style::Good => AnsiColor::Green.on_default(),
            Style::Closed => AnsiColor::Blue.on_default(),
            Style::Mixed => AnsiColor::Yellow.on_default(),
            Style::Wrong => AnsiColor::Red.on_default().bold(),
        }
    }
}
