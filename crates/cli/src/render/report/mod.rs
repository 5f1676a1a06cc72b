//! `report` in all its forms.

mod html;
mod plain;
mod sheet;
mod text;

pub use html::page;
pub use plain::markdown;
pub use sheet::{csv, harmless};
pub use text::reported;
