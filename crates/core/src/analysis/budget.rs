//! A bound on how far pieces are taken apart.

/// The bound was reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Spent;

/// How many more steps may be taken.
#[derive(Clone, Copy, Debug)]
pub(super) struct Budget {
    left: usize,
}

impl Budget {
    /// A budget of so many steps.
    #[must_use]
    pub(super) fn new(steps: usize) -> Self {
        Self { left: steps }
    }

    /// How many more may be taken.
    pub(super) fn left(&self) -> usize {
        self.left
    }

    /// Takes some steps.
    ///
    /// # Errors
    /// [`Spent`] if fewer are left.
    pub(crate) fn spend(&mut self, steps: usize) -> Result<(), Spent> {
        self.left = self.left.checked_sub(steps).ok_or(Spent)?;
        Ok(())
    }
}
