//! How a use case that did its work ended.

/// What became of the question, whoever asks for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It was done, and all is well.
    Fine,
    /// The work was done, and something wrong was found.
    Found,
    /// What was asked cannot be done: a mistake in it. Nothing was done.
    Usage,
    /// The system refused, or did not let us look.
    Refused,
}
