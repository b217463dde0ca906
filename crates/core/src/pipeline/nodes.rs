//! Reading KDL nodes with a list of faults at hand.
//!
//! A [`Line`] is one node. Whoever reads it takes the values it knows; [`Line::end`] then turns
//! whatever nobody took into faults, so that no word is ever passed over in silence.

use std::cell::{Cell, RefCell};
use std::ops::RangeInclusive;

use super::fault::{Fault, Span, help_for_unknown};
use super::model::Spanned;
use super::synonyms;
use super::tree::{At, Document, Entry, Node, Value};

/// The texts being read, and the faults found in them so far.
pub(super) struct Sheet<'t> {
    /// The pipeline file, and the templates that it uses, with their names.
    files: RefCell<Vec<(Option<String>, &'t str)>>,
    /// The one that is read now.
    current: Cell<usize>,
    /// Whether something that belongs to the whole could not be read.
    partial: Cell<bool>,
    faults: RefCell<Vec<(Span, Fault)>>,
}

/// One node of the text.
pub(super) struct Line<'s, 't> {
    sheet: &'s Sheet<'t>,
    node: &'s Node,
    values_taken: usize,
    names_known: Vec<&'static str>,
}

impl<'t> Sheet<'t> {
    pub(super) fn new(text: &'t str) -> Self {
        let files = RefCell::new(vec![(None, text)]);
        Self { files, current: Cell::new(0), partial: Cell::new(false), faults: RefCell::default() }
    }

    /// Reads another file of the whole.
    pub(super) fn in_file<T>(&self, name: &str, text: &'t str, read: impl FnOnce() -> T) -> T {
        let known = self.files.borrow().iter().position(|(known, _)| known.as_deref() == Some(name));
        let file = known.unwrap_or_else(|| {
            let mut files = self.files.borrow_mut();
            files.push((Some(name.to_owned()), text));
            files.len() - 1
        });
        let before = self.current.replace(file);
        let answer = read();
        self.current.set(before);
        answer
    }

    /// A part of the whole cannot be read, and that is nobody's fault.
    pub(super) fn lacks_a_part(&self) {
        self.partial.set(true);
    }

    /// Whether every part could be read.
    pub(super) fn is_whole(&self) -> bool {
        !self.partial.get()
    }

    /// A place in the file that is read now.
    pub(super) fn span(&self, (start, end): At) -> Span {
        Span { start, end, file: self.current.get() }
    }

    /// The text at a place in the file that is read now; nothing where there is no such place.
    fn source(&self, (start, end): At) -> &'t str {
        let files = self.files.borrow();
        let text = files[self.current.get()].1;
        text.get(start..end).unwrap_or_default()
    }

    pub(super) fn fault(&self, span: Span, message: impl Into<String>, help: impl Into<String>) {
        let help = Some(help.into()).filter(|help| !help.is_empty());
        let files = self.files.borrow();
        let (name, text) = files.get(span.file).unwrap_or(&files[0]);
        let fault = Fault { file: name.clone(), ..Fault::new(text, span, message, help) };
        self.faults.borrow_mut().push((span, fault));
    }

    /// Every node of a document, for a reader that answers whether it knew the word.
    pub(super) fn each<'s>(
        &'s self,
        document: &'s Document,
        known: &[&str],
        mut read: impl FnMut(Line<'s, 't>) -> bool,
    ) {
        for node in &document.nodes {
            let name = &node.name;
            if let Some(ty) = &node.ty {
                self.fault(self.span(ty.at), format!("`({})` means nothing here", ty.text), "leave it out");
            }
            let line = Line { sheet: self, node, values_taken: 0, names_known: Vec::new() };
            let unread = line.again();
            if !read(line) {
                let word = &name.text;
                let help = synonyms::of_word(&unread, known).unwrap_or_else(|| help_for_unknown(word, known));
                self.fault(self.span(name.at), format!("`{word}` is not a word here"), help);
            }
        }
    }

    /// All faults, in the order of the text.
    pub(super) fn into_faults(self) -> Vec<Fault> {
        let mut faults = self.faults.into_inner();
        faults.sort_by_key(|(span, _)| (span.file, span.start));
        faults.into_iter().map(|(_, fault)| fault).collect()
    }
}

/// What stands behind a line's word, as it was written.
pub(super) struct Written<'t> {
    /// The first value that is no property.
    pub(super) first: Option<&'t str>,
    /// All values and properties.
    pub(super) all: &'t str,
}

impl<'s, 't> Line<'s, 't> {
    /// The same line, of which nothing was taken.
    fn again(&self) -> Self {
        Line { sheet: self.sheet, node: self.node, values_taken: 0, names_known: Vec::new() }
    }

    /// What stands behind the word, as it was written.
    pub(super) fn written(&self) -> Written<'t> {
        let first = self.values().next().map(|entry| self.sheet.source(entry.at));
        let entries = &self.node.entries;
        let all = entries.first().zip(entries.last()).map(|(first, last)| self.sheet.source((first.at.0, last.at.1)));
        Written { first, all: all.unwrap_or_default() }
    }

    /// The word the node begins with.
    pub(super) fn word(&self) -> &'s str {
        &self.node.name.text
    }

    /// The word's place.
    pub(super) fn span(&self) -> Span {
        self.sheet.span(self.node.name.at)
    }

    /// What it is read from.
    pub(super) const fn sheet(&self) -> &'s Sheet<'t> {
        self.sheet
    }

    pub(super) fn fault(&self, span: Span, message: impl Into<String>, help: impl Into<String>) {
        self.sheet.fault(span, message, help);
    }

    /// Whether nothing of the form `NAME=value` stands behind the word.
    pub(super) fn has_no_properties(&self) -> bool {
        self.node.entries.iter().all(|entry| entry.name.is_none())
    }

    fn values(&self) -> impl Iterator<Item = &'s Entry> {
        self.node.entries.iter().filter(|entry| entry.name.is_none())
    }

    fn as_text(&self, entry: &Entry) -> Option<Spanned<String>> {
        let span = self.sheet.span(entry.at);
        match entry.value.as_text() {
            Some(text) => Some(Spanned { value: text.to_owned(), span }),
            None => {
                self.fault(span, format!("`{}` is not a string", entry.value), "write it in quotes");
                None
            }
        }
    }

    /// The next value, which must be there and be a text; `what` names it in the fault.
    pub(super) fn text(&mut self, what: &str) -> Option<Spanned<String>> {
        let Some(entry) = self.values().nth(self.values_taken) else {
            self.fault(self.span(), format!("`{}` lacks {what}", self.word()), "write it behind the word, in quotes");
            return None;
        };
        self.values_taken += 1;
        self.as_text(entry)
    }

    /// The next value as a text, where there is one.
    pub(super) fn optional_text(&mut self) -> Option<Spanned<String>> {
        let entry = self.values().nth(self.values_taken)?;
        self.values_taken += 1;
        self.as_text(entry)
    }

    /// All values that are left, as texts; at least one must be there.
    pub(super) fn texts(&mut self, what: &str) -> Vec<Spanned<String>> {
        let mut all: Vec<_> = self.text(what).into_iter().collect();
        while self.values_taken < self.values().count() {
            all.extend(self.text(what));
        }
        all
    }

    /// The value of a named property, if it is there.
    pub(super) fn named(&mut self, name: &'static str) -> Option<Spanned<String>> {
        self.named_entry(name).and_then(|entry| self.as_text(entry))
    }

    fn named_entry(&mut self, name: &'static str) -> Option<&'s Entry> {
        self.names_known.push(name);
        let mut found = self.node.entries.iter().filter(|entry| entry.name.as_ref().is_some_and(|n| n.text == name));
        let first = found.next();
        for twice in found {
            self.fault(self.sheet.span(twice.at), format!("`{name}` is said twice"), "keep one of the two");
        }
        first
    }

    /// The value of a named property that says yes or no (`#true`, `#false`); no where it is not there.
    pub(super) fn named_flag(&mut self, name: &'static str) -> bool {
        let Some(entry) = self.named_entry(name) else { return false };
        if let Value::Bool(yes) = entry.value {
            return yes;
        }
        {
            let message = format!("`{}` does not say yes or no", entry.value);
            self.fault(self.sheet.span(entry.at), message, format!("write {name}=#true"));
            false
        }
    }

    /// The value of a named property that is a whole number of this range.
    pub(super) fn named_number(&mut self, name: &'static str, range: RangeInclusive<i64>) -> Option<i64> {
        let entry = self.named_entry(name)?;
        self.as_number(entry, range)
    }

    /// The value of a named property that is an amount above zero, in thousandths: `2`, `0.5`.
    pub(super) fn named_thousandths(&mut self, name: &'static str) -> Option<u32> {
        let entry = self.named_entry(name)?;
        let value = match entry.value {
            Value::Integer(number) => number as f64,
            Value::Float(number) => number,
            _ => f64::NAN,
        };
        let thousandths = (value * 1000.0).round();
        if (1.0..=1e6).contains(&thousandths) {
            return Some(thousandths as u32);
        }
        let message = format!("`{}` cannot stand here", entry.value);
        self.fault(self.sheet.span(entry.at), message, "write an amount from 0.001 to 1000, without quotes");
        None
    }

    /// The value of a named property as people would write it: a text, a number, or yes or no.
    pub(super) fn named_scalar(&mut self, name: &'static str) -> Option<Spanned<String>> {
        let entry = self.named_entry(name)?;
        self.as_scalar(entry)
    }

    /// The next value, which must be there, as people would write it: a text, a number, or yes or no.
    pub(super) fn scalar(&mut self, what: &str) -> Option<Spanned<String>> {
        let Some(entry) = self.values().nth(self.values_taken) else {
            self.fault(self.span(), format!("`{}` lacks {what}", self.word()), "write it behind the word");
            return None;
        };
        self.values_taken += 1;
        self.as_scalar(entry)
    }

    fn as_scalar(&self, entry: &Entry) -> Option<Spanned<String>> {
        let value = match entry.value {
            Value::Bool(true) => "yes".to_owned(),
            Value::Bool(false) => "no".to_owned(),
            Value::Integer(number) => number.to_string(),
            _ => return self.as_text(entry),
        };
        Some(Spanned { value, span: self.sheet.span(entry.at) })
    }

    /// The next value, which must be there and be a whole number of this range.
    pub(super) fn number(&mut self, what: &str, range: RangeInclusive<i64>) -> Option<i64> {
        let Some(entry) = self.values().nth(self.values_taken) else {
            self.fault(
                self.span(),
                format!("`{}` lacks {what}", self.word()),
                "write it behind the word, without quotes",
            );
            return None;
        };
        self.values_taken += 1;
        self.as_number(entry, range)
    }

    fn as_number(&self, entry: &Entry, range: RangeInclusive<i64>) -> Option<i64> {
        let number = if let Value::Integer(number) = entry.value { i64::try_from(number).ok() } else { None };
        if let Some(number) = number.filter(|number| range.contains(number)) {
            return Some(number);
        }
        let allowed = match (*range.start(), *range.end()) {
            (i64::MIN, i64::MAX) => "a whole number".to_owned(),
            (least, i64::MAX) => format!("a whole number of at least {least}"),
            (least, most) => format!("a whole number from {least} to {most}"),
        };
        let message = format!("`{}` cannot stand here", entry.value);
        self.fault(self.sheet.span(entry.at), message, format!("write {allowed}, without quotes"));
        None
    }

    /// Every property as a name and a text, for nodes whose names the writer chooses.
    pub(super) fn pairs(&mut self) -> Vec<(Spanned<String>, Spanned<String>)> {
        let mut pairs = Vec::new();
        for entry in &self.node.entries {
            if let Some(name) = &entry.name
                && let Some(text) = self.as_text(entry)
            {
                pairs.push((Spanned { value: name.text.clone(), span: self.sheet.span(name.at) }, text));
            }
        }
        if pairs.is_empty() {
            self.fault(self.span(), format!("`{}` sets nothing", self.word()), "write NAME=\"value\" behind it");
        }
        pairs
    }

    /// The nodes inside the braces, read one by one; `known` are the words they may begin with.
    pub(super) fn inside(&self, known: &[&str], read: impl FnMut(Line<'s, 't>) -> bool) {
        if let Some(document) = &self.node.children {
            self.sheet.each(document, known, read);
        }
    }

    /// Ends a node that has no braces.
    pub(super) fn end_without_block(self, free_names: bool) {
        if let Some(children) = &self.node.children {
            let at = children.nodes.first().map_or(self.node.name.at, |node| node.name.at);
            self.fault(self.sheet.span(at), format!("`{}` takes no braces", self.word()), "take them out");
        }
        self.end(free_names);
    }

    /// Turns every value and property that nobody took into a fault.
    pub(super) fn end(self, free_names: bool) {
        for extra in self.values().skip(self.values_taken) {
            self.fault(
                self.sheet.span(extra.at),
                format!("`{}` takes no further value", self.word()),
                "take it out, or write it on a line of its own",
            );
        }
        for entry in self.node.entries.iter().filter(|_| !free_names) {
            if let Some(name) = &entry.name
                && !self.names_known.contains(&name.text.as_str())
            {
                let behind = self.sheet.source((name.at.1, entry.at.1));
                let value = behind.trim_start().trim_start_matches('=').trim_start();
                let help = synonyms::of_property(&name.text, value, &self.names_known)
                    .unwrap_or_else(|| help_for_unknown(&name.text, &self.names_known));
                self.fault(self.sheet.span(name.at), format!("`{}` has no `{}`", self.word(), &name.text), help);
            }
        }
    }
}
