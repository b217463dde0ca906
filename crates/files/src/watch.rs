//! Cancellation of long operations.

use std::fmt;
use std::io::{self, Read};
use std::sync::Arc;

/// Decides whether a long operation continues. Operations ask for each entry and each buffer.
#[derive(Clone, Default)]
pub struct Watch(Option<Arc<dyn Fn() -> Option<String> + Send + Sync>>);

/// The operation was canceled, with the reason.
#[derive(Debug)]
pub struct GivenUp(pub String);

impl fmt::Display for GivenUp {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&self.0)
    }
}

impl std::error::Error for GivenUp {}

impl fmt::Debug for Watch {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str("Watch")
    }
}

impl Watch {
    /// Never cancels.
    #[must_use]
    pub const fn none() -> Self {
        Self(None)
    }

    /// `why_not` returns the reason once the operation must stop. It is called very often.
    pub fn new(why_not: impl Fn() -> Option<String> + Send + Sync + 'static) -> Self {
        Self(Some(Arc::new(why_not)))
    }

    /// # Errors
    /// An error that contains [`GivenUp`] if the operation must stop.
    pub fn check(&self) -> io::Result<()> {
        match self.0.as_ref().and_then(|why_not| why_not()) {
            Some(why) => Err(io::Error::other(GivenUp(why))),
            None => Ok(()),
        }
    }

    /// Wraps a reader. Each read asks first.
    pub const fn reader<R: Read>(&self, inner: R) -> Watched<'_, R> {
        Watched { watch: self, inner }
    }
}

/// A reader that fails once the operation must stop.
pub struct Watched<'a, R> {
    watch: &'a Watch,
    inner: R,
}

impl<R: Read> Read for Watched<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.watch.check()?;
        self.inner.read(buffer)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU32, Ordering};

    use super::*;

    #[test]
    fn reading_ends_at_the_buffer_at_which_the_work_is_given_up() {
        let asked = AtomicU32::new(0);
        let watch = Watch::new(move || (asked.fetch_add(1, Ordering::Relaxed) == 3).then(|| "it took too long".into()));
        let mut reader = watch.reader(io::repeat(7));
        let mut buffer = [0; 10];
        for _ in 0..3 {
            reader.read_exact(&mut buffer).unwrap();
        }
        let error = reader.read_exact(&mut buffer).unwrap_err();
        assert_eq!(error.to_string(), "it took too long");
        assert!(error.get_ref().unwrap().is::<GivenUp>());
        assert!(Watch::none().check().is_ok());
    }
}
