//! What is noted of a request while it is answered.
//!
//! The note goes with the task that answers, so that no handler can forget it: what the [guard](crate::http) knows it
//! writes, and who knows more says so with [`about`] and [`words`]. A change of the records that is the request's own is
//! stored together with the note ([`Store::write_noted`](crate::store::Store::write_noted)); what was not noted by then is
//! once the answer is known.

use std::sync::{Arc, Mutex, PoisonError};

use pondrix_core::audit::Deed;

/// A request's note. Its copies are one.
#[derive(Clone, Debug)]
pub(crate) struct Note(Arc<Mutex<State>>);

#[derive(Debug)]
struct State {
    deed: Deed,
    is_stored: bool,
}

tokio::task_local! {
    static NOTE: Note;
}

impl Note {
    pub(crate) fn new(deed: Deed) -> Self {
        Self(Arc::new(Mutex::new(State { deed, is_stored: false })))
    }

    /// The note of the request that this task answers, where it answers one.
    pub(crate) fn current() -> Option<Self> {
        NOTE.try_with(Clone::clone).ok()
    }

    fn with<T>(&self, look: impl FnOnce(&mut State) -> T) -> T {
        look(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Does something, and notes what it says of itself.
    pub(crate) async fn on<T>(&self, work: impl Future<Output = T>) -> T {
        NOTE.scope(self.clone(), work).await
    }

    /// What is to be stored, unless it is already.
    pub(crate) fn pending(&self) -> Option<Deed> {
        self.with(|state| (!state.is_stored).then(|| state.deed.clone()))
    }

    /// What is to be stored; also what was already, where it turned out not to be done.
    pub(crate) fn unless_stored(&self, is_done: bool) -> Option<Deed> {
        self.with(|state| (!(state.is_stored && is_done)).then(|| state.deed.clone()))
    }

    /// It was stored.
    pub(crate) fn stored(&self) {
        self.with(|state| state.is_stored = true);
    }
}

fn say(change: impl FnOnce(&mut Deed)) {
    if let Some(note) = Note::current() {
        note.with(|state| change(&mut state.deed));
    }
}

/// Says what a request is about, where its address does not.
pub(crate) fn about(target: impl std::fmt::Display) {
    say(|deed| deed.target = target.to_string());
}

/// Says of which project that is.
pub(crate) fn of_project(project: &str) {
    say(|deed| deed.project = Some(project.to_owned()));
}

/// Says who asks, where only the answer tells.
pub(crate) fn by(who: &str) {
    say(|deed| deed.who = who.to_owned());
}

/// Says what exactly was asked for.
pub(crate) fn words(words: impl std::fmt::Display) {
    say(|deed| deed.words = words.to_string());
}

/// Whether what was written is the change that was asked for.
pub(crate) trait Change {
    /// Whether anything was changed.
    fn is_made(&self) -> bool {
        true
    }
}

impl Change for () {}
impl Change for i64 {}
impl Change for crate::store::Project {}
impl Change for pondrix_api::SecretView {}
impl Change for crate::store::RunnerRow {}
impl Change for bool {
    fn is_made(&self) -> bool {
        *self
    }
}
impl<T: Change, U> Change for (T, U) {
    fn is_made(&self) -> bool {
        self.0.is_made()
    }
}
impl<T> Change for Option<T> {
    fn is_made(&self) -> bool {
        self.is_some()
    }
}

#[cfg(test)]
mod tests {
    use pondrix_core::audit::AuditResult;

    use super::*;

    #[tokio::test]
    async fn a_note_is_filled_by_whoever_answers_and_by_nobody_else() {
        let note = Note::new(Deed {
            who: "nobody".to_owned(),
            token: None,
            from: None,
            action: "role give".to_owned(),
            target: String::new(),
            project: None,
            result: AuditResult::Done,
            words: String::new(),
        });
        about("outside");
        note.on(async {
            by("wren");
            about("team:keepers");
            of_project("lantern");
            words("maintain");
        })
        .await;
        words("after it");
        let deed = note.pending().unwrap();
        assert_eq!(
            (deed.who.as_str(), deed.target.as_str(), deed.words.as_str()),
            ("wren", "team:keepers", "maintain")
        );
        assert_eq!(deed.project.as_deref(), Some("lantern"));
        note.clone().stored();
        assert_eq!(note.pending(), None);
        assert!(Note::current().is_none());
    }
}
