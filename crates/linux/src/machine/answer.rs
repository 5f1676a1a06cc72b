//! An answer of a machine, to be told again.

use crate::{LinuxError, Reason};
use serde::{Deserialize, Serialize};

/// What a machine answered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum Answer<T> {
    /// What the machine told.
    Told(T),
    /// Whoever asked was not permitted to do this.
    NotPermitted(String),
    /// Rules for programs cannot be enforced there.
    Lacking {
        /// All that is lacking, as ends of sentences.
        what: Vec<String>,
        /// Whether the caller may at least look.
        permitted: bool,
    },
    /// It did not tell.
    Refused {
        /// What was asked of it.
        doing: String,
        /// The kernel's number for the reason (errno(3)), if it gave one.
        errno: Option<i32>,
        /// The reason in words.
        words: String,
    },
}

impl<T> Answer<T> {
    /// Keeps an answer. What went wrong on our side of the conversation is kept as a refusal.
    pub(super) fn of(answer: Result<T, LinuxError>) -> Self {
        match answer {
            Ok(told) => Self::Told(told),
            Err(LinuxError::NotPermitted { doing }) => Self::NotPermitted(doing),
            Err(LinuxError::Lacking { what, permitted }) => Self::Lacking { what, permitted },
            Err(LinuxError::Refused { doing, reason }) => {
                Self::Refused { doing, errno: reason.errno(), words: reason.to_string() }
            }
            Err(error) => {
                Self::Refused { doing: "answer".into(), errno: None, words: error.to_string() }
            }
        }
    }

    /// An answer to a question that was not asked when the others were kept.
    pub(crate) fn not_recorded(question: &str) -> Self {
        let words = "this was not asked when the machine was recorded".into();
        Self::Refused { doing: question.into(), errno: None, words }
    }
}

impl<T: Clone> Answer<T> {
    /// Gives the answer as it was given.
    pub(super) fn again(&self) -> Result<T, LinuxError> {
        match self.clone() {
            Self::Told(told) => Ok(told),
            Self::NotPermitted(doing) => Err(LinuxError::NotPermitted { doing }),
            Self::Lacking { what, permitted } => Err(LinuxError::Lacking { what, permitted }),
            Self::Refused { doing, errno, words } => {
                Err(LinuxError::Refused { doing, reason: Reason::recorded(errno, words) })
            }
        }
    }
}
