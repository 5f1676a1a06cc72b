//! What becomes of packets.

/// What is to happen to a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Verdict {
    /// The packet may pass on.
    Allow,
    /// It is dropped without an answer.
    Deny,
    /// It is dropped, and the sender is told.
    Reject,
}

impl Verdict {
    /// Every verdict that there is.
    pub const ALL: [Self; 3] = [Self::Allow, Self::Deny, Self::Reject];

    /// The word for it in policies and output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Allow => "allow",
            Self::Deny => "deny",
            Self::Reject => "reject",
        }
    }

    /// Reads the word that [`Verdict::as_str`] gives.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|verdict| verdict.as_str() == text)
    }
}
