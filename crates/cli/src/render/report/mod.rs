//! `report` in all its forms.

mod html;
mod plain;
mod sheet;
mod text;

/// A program by its file's name; the whole path is in the other forms.
fn short(program: &str) -> &str {
    match program.starts_with('/') {
        true => program.rsplit('/').next().unwrap_or(program),
        false => program,
    }
}

pub(super) use html::LOOK;
pub use html::page;
pub use plain::markdown;
pub use sheet::{csv, harmless};
pub use text::reported;
