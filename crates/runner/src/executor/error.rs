//! Why a job ends that none of its own commands has ended.

use std::io;

use pondrix_api::ClientError;
use pondrix_image::StoreError;
use pondrix_image::layer::UnpackError;
use pondrix_image::registry::{DownloadError, RegistryError};
use pondrix_sandbox::{NetworkError, StartError};

/// Why something was not done that a job needs.
#[derive(Debug, thiserror::Error)]
pub(crate) enum JobError {
    /// The machine.
    #[error(transparent)]
    Machine(#[from] io::Error),
    /// The server.
    #[error(transparent)]
    Server(#[from] ClientError),
    /// A registry.
    #[error(transparent)]
    Registry(#[from] RegistryError),
    /// The address of an ADD.
    #[error(transparent)]
    Download(#[from] DownloadError),
    /// The runner's store of images.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// An archive of files.
    #[error(transparent)]
    Files(#[from] UnpackError),
    /// A sandbox.
    #[error(transparent)]
    Sandbox(#[from] StartError),
    /// The network of a sandbox.
    #[error(transparent)]
    Network(#[from] NetworkError),
    /// What the job asks for is not to be had as it asks for it.
    #[error("{0}")]
    Asked(String),
    /// One of these, and what was being done.
    #[error("{doing}: {error}")]
    While {
        /// What was being done.
        doing: String,
        /// What went wrong.
        error: Box<JobError>,
    },
}

impl JobError {
    /// What the job asks for is not to be had.
    pub(crate) fn asked(words: impl Into<String>) -> Self {
        Self::Asked(words.into())
    }

    /// Whether the same may succeed a little later.
    pub(crate) fn is_transient(&self) -> bool {
        match self {
            Self::Server(error) => error.is_transient(),
            Self::Registry(error) => error.is_transient(),
            Self::While { error, .. } => error.is_transient(),
            Self::Machine(_)
            | Self::Download(_)
            | Self::Store(_)
            | Self::Files(_)
            | Self::Sandbox(_)
            | Self::Network(_)
            | Self::Asked(_) => false,
        }
    }
}

/// Adds to an error what was being done.
pub(crate) trait Doing<T> {
    /// `doing` reads on before a colon and the error: `could not fetch the commit's files`.
    fn doing(self, doing: impl FnOnce() -> String) -> Result<T, JobError>;
}

impl<T, E: Into<JobError>> Doing<T> for Result<T, E> {
    fn doing(self, doing: impl FnOnce() -> String) -> Result<T, JobError> {
        self.map_err(|error| JobError::While { doing: doing(), error: Box::new(error.into()) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_being_done_is_told_and_whether_it_may_pass_is_not_forgotten() {
        let away = ClientError::Unavailable { address: "x".into(), words: "503".into(), retry_after: None };
        let error = Err::<(), _>(away).doing(|| "lily".to_owned()).doing(|| "could not send".to_owned()).unwrap_err();
        assert!(error.is_transient());
        assert!(error.to_string().starts_with("could not send: lily: "), "{error}");
        let full = Err::<(), _>(io::Error::other("disk full")).doing(|| "fern".to_owned()).unwrap_err();
        assert!(!full.is_transient());
        assert_eq!(full.to_string(), "fern: disk full");
    }
}
