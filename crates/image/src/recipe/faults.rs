//! Collecting faults while a recipe is read.

use pondrix_core::pipeline::{Fault, Span};

/// The faults and the warnings of a text.
pub(super) struct Faults<'a> {
    text: &'a str,
    pub(super) all: Vec<Fault>,
    pub(super) warnings: Vec<Fault>,
}

impl<'a> Faults<'a> {
    pub(super) const fn new(text: &'a str) -> Self {
        Self { text, all: Vec::new(), warnings: Vec::new() }
    }

    /// Tells a fault. Help may be empty.
    pub(super) fn tell(&mut self, span: Span, message: impl Into<String>, help: impl Into<String>) {
        self.all.push(Fault::new(self.text, span, message, Some(help.into()).filter(|help| !help.is_empty())));
    }

    /// Tells what is allowed, and seldom meant.
    pub(super) fn warn(&mut self, span: Span, message: impl Into<String>, help: impl Into<String>) {
        self.warnings.push(Fault::new(self.text, span, message, Some(help.into())));
    }

    /// Where a piece of an instruction stands in the text; the instruction's own place where it cannot be
    /// found again.
    pub(super) fn find(&self, piece: &str, from: usize, until: usize, otherwise: Span) -> Span {
        let found = self.text.get(from..until).filter(|_| !piece.is_empty()).and_then(|text| text.find(piece));
        found.map_or(otherwise, |at| Span::from(from + at..from + at + piece.len()))
    }
}
