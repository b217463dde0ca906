//! Why a command failed: the words, the advice, and the exit status, decided in one place.

use std::process::ExitCode;

use pondrix_api::ClientError;
use pondrix_core::pipeline::FILE_NAME;

use crate::output;

/// The run or rollout failed, or anything else did.
pub(crate) const FAILED: u8 = 1;
/// Wrong usage, or a faulty pipeline file.
pub(crate) const USAGE: u8 = 2;
/// The server could not be reached.
pub(crate) const UNREACHABLE: u8 = 3;
/// Not allowed.
pub(crate) const NOT_ALLOWED: u8 = 4;

/// A command's failure.
#[derive(Debug)]
pub(crate) struct Failure {
    status: u8,
    message: String,
    /// What comes next: its label, and what to do.
    advice: Option<(&'static str, String)>,
}

pub(crate) type Outcome = Result<ExitCode, Failure>;

impl Failure {
    pub(crate) fn new(message: impl Into<String>) -> Self {
        Self { status: FAILED, message: message.into(), advice: None }
    }

    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self { status: USAGE, ..Self::new(message) }
    }

    /// What mends it.
    pub(crate) fn advise(self, fix: impl Into<String>) -> Self {
        Self { advice: Some(("fix", fix.into())), ..self }
    }

    /// What goes on from here, where there is nothing to mend.
    pub(crate) fn go_on(self, next: impl Into<String>) -> Self {
        Self { advice: Some(("next", next.into())), ..self }
    }

    /// The same, with what it is about in front.
    pub(crate) fn about(self, what: &str) -> Self {
        Self { message: format!("{what}: {}", self.message), ..self }
    }

    /// What went wrong.
    pub(crate) fn message(&self) -> &str {
        &self.message
    }

    /// Tells it, and answers the exit status.
    pub(crate) fn report(self) -> ExitCode {
        eprintln!("pondrix: {}", self.message);
        if let Some((label, advice)) = self.advice {
            eprintln!("  {label}: {advice}");
        }
        ExitCode::from(self.status)
    }
}

impl From<ClientError> for Failure {
    fn from(error: ClientError) -> Self {
        // Part of it may be of another's making.
        let message = error.to_string().lines().map(output::plain).collect::<Vec<_>>().join("\n");
        match error {
            ClientError::Unreachable { .. } | ClientError::Unavailable { .. } => {
                Self { status: UNREACHABLE, ..Self::new(message) }.advise(
                    "check the address (`--url`, PONDRIX_URL or `pondrix login`) and that `pondrix serve` runs there",
                )
            }
            ClientError::Problem(problem) if problem.status == 401 => {
                Self { status: NOT_ALLOWED, ..Self::new(message) }.advise("sign in with `pondrix login URL`")
            }
            // Who is signed in is not helped by that; the server says whom to ask.
            ClientError::Problem(problem) if problem.status == 403 => {
                Self { status: NOT_ALLOWED, ..Self::new(message) }
            }
            ClientError::Problem(problem) if !problem.faults.is_empty() => {
                let shown: Vec<_> = problem.faults.iter().map(|fault| fault.render(FILE_NAME)).collect();
                Self::usage(format!("{message}\n{}", shown.join("\n")))
            }
            ClientError::Problem(problem) if matches!(problem.status, 413 | 422) => {
                Self { status: USAGE, ..Self::new(message) }
            }
            ClientError::Problem(_) | ClientError::Nonsense { .. } => Self::new(message),
        }
    }
}

impl From<anyhow::Error> for Failure {
    fn from(error: anyhow::Error) -> Self {
        Self::new(format!("{error:#}"))
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        Self::new(error.to_string())
    }
}
