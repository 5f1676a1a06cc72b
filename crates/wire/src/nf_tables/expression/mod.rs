//! The expressions that rules are made of.

mod also;
mod defining;
mod forms;
mod limit;
mod parts;
mod table;

pub use limit::Limit;
pub(super) use parts::data_value;
pub use table::Expression;

use crate::{Attribute, WireError, Writer};
use parts::{DATA, NAME, Parts};

impl Expression {
    /// The kernel's name of the expression.
    #[must_use]
    pub fn name(&self) -> &str {
        table::name(self)
    }

    /// Writes name and attributes.
    pub fn write(&self, out: &mut Writer) {
        out.text(NAME, self.name());
        out.nest(DATA, |out| table::write(self, out));
    }

    /// Reads one element of `NFTA_RULE_EXPRESSIONS`.
    ///
    /// # Errors
    /// [`WireError`] if it is malformed. An expression that is well formed but has parts which
    /// this type cannot hold comes back as [`Expression::Other`].
    pub fn decode(element: &Attribute<'_>) -> Result<Self, WireError> {
        let (name, data) = parts::split(element)?;
        let known = table::read(name, &Parts::read(data)?)?;
        Ok(known.unwrap_or_else(|| Self::Other { name: name.into(), data: data.to_vec() }))
    }
}
