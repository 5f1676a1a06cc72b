//! Why a command could not do its work.

use crate::Outcome;
use tipstaff_core::plan::{HostPlan, UnknownHost};
use tipstaff_core::policy::{Diagnostic, Source};
use tipstaff_linux::LinuxError;

/// Why a command could not do its work, by whose fault it is.
#[derive(Debug)]
pub enum Failure {
    /// Something is wrong with a text: a policy, or an argument.
    Input {
        /// The texts that the mistakes are in.
        sources: Vec<Source>,
        /// What is wrong with it.
        problems: Vec<Diagnostic>,
    },
    /// Something is wrong with what a policy would be after a change.
    Typed {
        /// The texts that it would have.
        sources: Vec<Source>,
        /// What would be wrong with it.
        problems: Vec<Diagnostic>,
    },
    /// Something else is wrong with what was asked.
    Usage {
        /// What is wrong, in one sentence.
        message: String,
        /// Ways out, each a sentence.
        help: Vec<String>,
    },
    /// Something was found that speaks against doing it.
    Stopped {
        /// What is wrong, in one sentence.
        message: String,
        /// Ways out, each a sentence.
        help: Vec<String>,
    },
    /// The system refused to do something.
    System {
        /// What it refused to do, and why.
        message: String,
        /// Ways out, each a sentence.
        help: Vec<String>,
    },
    /// The kernel refused a rule.
    Refusal {
        /// The texts that the refused rule stems from.
        sources: Vec<Source>,
        /// The refusal, at the rule's place in the policy.
        problem: Box<Diagnostic>,
    },
}

impl Failure {
    /// A mistake in what was asked, with one way out.
    pub fn usage(message: impl Into<String>, help: impl Into<String>) -> Self {
        Self::Usage { message: message.into(), help: vec![help.into()] }
    }

    /// Something that was found speaks against doing it.
    pub fn stopped(message: impl Into<String>, help: Vec<String>) -> Self {
        Self::Stopped { message: message.into(), help }
    }

    /// With one more way out, or word about how things stand.
    pub(crate) fn with_help(mut self, line: String) -> Self {
        match &mut self {
            Self::Input { problems, .. } | Self::Typed { problems, .. } => {
                if let Some(problem) = problems.pop() {
                    problems.push(problem.help(line));
                }
            }
            Self::Usage { help, .. } | Self::Stopped { help, .. } | Self::System { help, .. } => {
                help.push(line);
            }
            Self::Refusal { problem, .. } => **problem = problem.clone().help(line),
        }
        self
    }

    /// What went wrong, in a line.
    pub fn line(&self) -> String {
        match self {
            Self::Input { problems, .. } | Self::Typed { problems, .. } => {
                let first = problems.first().map(|it| it.message.clone());
                first.unwrap_or_else(|| "the policy cannot be read".into())
            }
            Self::Usage { message, .. }
            | Self::Stopped { message, .. }
            | Self::System { message, .. } => message.clone(),
            Self::Refusal { problem, .. } => problem.message.clone(),
        }
    }

    /// How a command that fails like this ends.
    pub fn outcome(&self) -> Outcome {
        match self {
            Self::Input { .. } | Self::Typed { .. } | Self::Usage { .. } => Outcome::Usage,
            Self::Stopped { .. } => Outcome::Found,
            Self::System { .. } | Self::Refusal { .. } => Outcome::Refused,
        }
    }

    /// A failure while rules of `plan` were handled: a refused rule is shown where it is written.
    pub fn in_kernel(error: LinuxError, sources: &[Source], plan: &HostPlan) -> Self {
        let LinuxError::RuleRefused { rule, reason } = &error else {
            return error.into();
        };
        let message = format!("the kernel refuses `{rule}`: {reason}");
        let problem = match plan.find(rule).and_then(|decision| decision.origin.clone()) {
            Some(origin) => Diagnostic::error("kernel-refused", message, origin)
                .expected("this is what it stems from"),
            None => Diagnostic::general("kernel-refused", message),
        };
        // So the kernel answers where a part of the packet filter was not built or cannot be loaded.
        let problem = if reason.is_missing() {
            problem.help(
                "this kernel may lack a part that the rule needs: CONFIG_NF_TABLES_INET, \
                 CONFIG_NFT_CT, CONFIG_NFT_LIMIT (`rate`), CONFIG_NFT_REJECT_INET (`reject`), \
                 CONFIG_NFT_LOG (`log`)",
            )
        } else {
            problem
        };
        let problem = Box::new(problem.help("nothing was changed"));
        Self::Refusal { sources: sources.to_vec(), problem }
    }
}

impl From<LinuxError> for Failure {
    fn from(error: LinuxError) -> Self {
        let help = match &error {
            LinuxError::NotPermitted { .. } => {
                vec!["run it as root, or with the capability CAP_NET_ADMIN".to_owned()]
            }
            LinuxError::Lacking { .. } => vec![
                "nothing was changed; --without-programs enforces the policy as if rules that name \
                 programs were paused"
                    .to_owned(),
            ],
            LinuxError::Changed => {
                vec!["nothing was changed; look with `tipstaff status`, and try again".to_owned()]
            }
            LinuxError::Wire(_) | LinuxError::ReadBack(_) => {
                vec!["this is a mistake in Tipstaff; please report it".to_owned()]
            }
            _ => Vec::new(),
        };
        Self::System { message: error.to_string(), help }
    }
}

impl From<UnknownHost> for Failure {
    fn from(error: UnknownHost) -> Self {
        Self::usage(error.to_string(), "choose one with --host NAME")
    }
}
