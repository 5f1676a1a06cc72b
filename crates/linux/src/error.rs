//! What the kernel can refuse.

use std::{fmt, io};
use tipstaff_core::plan::RuleId;
use tipstaff_wire::WireError;

/// Why something on the kernel's side did not work.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum LinuxError {
    /// The caller lacks the right. Way out: run as root, or with CAP_NET_ADMIN.
    #[error("the kernel does not permit this user to {doing}")]
    NotPermitted {
        /// What was tried, as the end of a sentence.
        doing: String,
    },
    /// The kernel refused a part of the rules. Nothing was changed.
    #[error("the kernel refuses `{rule}`: {reason}")]
    RuleRefused {
        /// The decision that the refused part serves.
        rule: RuleId,
        /// Why the kernel, or we, refused it.
        reason: Reason,
    },
    /// The kernel refused something else. Nothing was changed.
    #[error("the kernel refuses to {doing}: {reason}")]
    Refused {
        /// What was tried, as the end of a sentence.
        doing: String,
        /// Why the kernel, or we, refused it.
        reason: Reason,
    },
    /// The kernel, or this process, lacks what it takes to tell programs apart. Nothing was changed.
    #[error("rules for programs cannot be enforced here; missing: {}", what.join("; "))]
    Lacking {
        /// All that is lacking, as parts of a sentence.
        what: Vec<String>,
        /// Whether this process has the right to look.
        permitted: bool,
    },
    /// Somebody changed the kernel's rules in the meantime. Nothing was changed by us.
    #[error("somebody changed the kernel's rules in the meantime")]
    Changed,
    /// The kernel was given a change, and its answer was lost: it may have been made or not. Way
    /// out: read the kernel back.
    #[error("it is not known whether the kernel did {doing}: its answer was lost ({source})")]
    Unknown {
        /// What was tried, as the end of a sentence.
        doing: String,
        /// Why no answer came.
        source: io::Error,
    },
    /// A system call failed.
    #[error("cannot {doing}: {source}")]
    System {
        /// What was tried, as the end of a sentence.
        doing: String,
        /// What the system says of it.
        source: io::Error,
    },
    /// The kernel's answer, or our question, is not well formed: a mistake of this program.
    #[error("a message to or from the kernel is malformed: {0}")]
    Wire(#[from] WireError),
    /// The kernel took the rules, but what was read back is not what was sent, or could not be read:
    /// a mistake of this program, or somebody came in between.
    #[error("the kernel took the rules, and reading them back gave something else: {0}")]
    ReadBack(String),
}

impl LinuxError {
    /// Wraps a failed system call; a missing right is told apart.
    pub fn system(doing: impl Into<String>, source: impl Into<io::Error>) -> Self {
        let (doing, source) = (doing.into(), source.into());
        if matches!(source.raw_os_error(), Some(libc::EPERM | libc::EACCES)) {
            Self::NotPermitted { doing }
        } else {
            Self::System { doing, source }
        }
    }

    /// The kernel's refusal by number, with its remark if it made one.
    pub(crate) fn refused(doing: &str, errno: i32, remark: Option<&str>) -> Self {
        let doing = doing.to_owned();
        match errno {
            libc::EPERM | libc::EACCES => Self::NotPermitted { doing },
            errno => Self::Refused { doing, reason: Reason::numbered(errno, remark) },
        }
    }
}

/// Why something was refused.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reason {
    errno: Option<i32>,
    words: String,
}

impl Reason {
    /// The kernel's number, with its remark if it made one.
    pub(crate) fn numbered(errno: i32, remark: Option<&str>) -> Self {
        let text = io::Error::from_raw_os_error(errno);
        let words = match remark {
            Some(remark) => format!("{remark} ({text})"),
            None => text.to_string(),
        };
        Self { errno: Some(errno), words }
    }

    /// A reason that was written down.
    pub(crate) fn recorded(errno: Option<i32>, words: String) -> Self {
        Self { errno, words }
    }

    /// The kernel's number for it (errno(3)); `None` if it was not the kernel that refused.
    #[must_use]
    pub fn errno(&self) -> Option<i32> {
        self.errno
    }

    /// Whether the kernel says that it has no such thing: a part that was not built, or cannot be
    /// loaded.
    #[must_use]
    pub fn is_missing(&self) -> bool {
        matches!(
            self.errno,
            Some(libc::ENOENT | libc::EOPNOTSUPP | libc::EPROTONOSUPPORT | libc::EAFNOSUPPORT)
        )
    }
}

impl From<String> for Reason {
    fn from(words: String) -> Self {
        Self { errno: None, words }
    }
}

impl From<&str> for Reason {
    fn from(words: &str) -> Self {
        words.to_owned().into()
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.words)
    }
}
