//! Something of the records that every job asks for and that hardly ever changes.

use std::sync::{Arc, Mutex};

use super::locked;

/// A value, as the records had it last. Whoever changes it there forgets it here.
#[derive(Debug)]
pub(super) struct Remembered<T>(Arc<Mutex<(Forgotten, Option<Arc<T>>)>>);

/// How often it was forgotten before the records were asked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Forgotten(u64);

impl<T> Default for Remembered<T> {
    fn default() -> Self {
        Self(Arc::new(Mutex::new((Forgotten::default(), None))))
    }
}

impl<T> Clone for Remembered<T> {
    fn clone(&self) -> Self {
        Self(Arc::clone(&self.0))
    }
}

impl<T> Remembered<T> {
    /// The value; else what [`Remembered::keep`] wants to be told when the records have been asked.
    pub(super) fn get(&self) -> Result<Arc<T>, Forgotten> {
        let known = locked(&self.0);
        known.1.clone().ok_or(known.0)
    }

    /// Remembers what the records said, unless it was forgotten since they were asked. Answers it.
    pub(super) fn keep(&self, value: T, before: Forgotten) -> Arc<T> {
        let (mut known, value) = (locked(&self.0), Arc::new(value));
        if known.0 == before {
            known.1 = Some(Arc::clone(&value));
        }
        value
    }

    /// Forgets it: it changes.
    pub(super) fn forget(&self) {
        let mut known = locked(&self.0);
        known.0.0 += 1;
        known.1 = None;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_read_before_a_change_is_given_to_who_asked_and_to_nobody_after() {
        let known = Remembered::default();
        let before = known.get().unwrap_err();
        known.forget();
        assert_eq!(*known.keep("old", before), "old");
        let before = known.get().unwrap_err();
        assert_eq!(*known.keep("new", before), "new");
        assert_eq!(*known.get().unwrap(), "new");
        known.forget();
        assert!(known.get().is_err());
    }
}
