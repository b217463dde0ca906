//! What was asked for lately.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

/// Values by their names, as many as were asked for last; threads may share it.
#[derive(Debug)]
pub struct Recent<V> {
    most: usize,
    /// The one that was asked for last at the end.
    kept: Mutex<VecDeque<(String, V)>>,
}

impl<V: Clone> Recent<V> {
    /// Nothing yet, and later at most so many.
    #[must_use]
    pub const fn new(most: usize) -> Self {
        Self { most, kept: Mutex::new(VecDeque::new()) }
    }

    /// The value of a name, which is then the last that goes.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<V> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|(known, _)| known == name)?;
        let found = kept.remove(at)?;
        let value = found.1.clone();
        kept.push_back(found);
        Some(value)
    }

    /// Keeps a value, in place of what was kept under its name.
    pub fn keep(&self, name: String, value: V) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|(known, _)| *known != name);
        kept.push_back((name, value));
        while kept.len() > self.most {
            kept.pop_front();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_asked_for_last_is_kept_and_a_name_has_one_value() {
        let recent = Recent::new(3);
        for number in 0..10 {
            recent.keep(number.to_string(), number);
            assert_eq!(recent.get("0"), Some(0), "what is asked for stays");
        }
        assert_eq!(recent.get("7"), None, "the one that nobody asked for went");
        assert_eq!((recent.get("8"), recent.get("9")), (Some(8), Some(9)));
        recent.keep("0".to_owned(), 100);
        assert_eq!((recent.get("0"), recent.get("8")), (Some(100), Some(8)));
    }
}
