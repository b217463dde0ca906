//! A text of KDL 2 as a tree of nodes, with the place of everything.
//!
//! The library that knows all of KDL takes about a microsecond a letter, which is felt in an editor that
//! checks a long file at every key. Nearly every file uses little of the language: [`plain`] reads that
//! little, some fifty times as fast, and answers nothing as soon as it meets anything else or any slip; the
//! library then reads the whole. Tests hold the one to the other.

mod plain;

use std::fmt;

use kdl::{KdlDiagnostic, KdlDocument, KdlEntry, KdlIdentifier, KdlNode, KdlValue};
use miette::SourceSpan;

use super::limits;
use super::notation::{self, Slip};

/// A place: the first byte, and the one after the last.
pub(crate) type At = (usize, usize);

/// Nodes in their order.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Document {
    pub(crate) nodes: Vec<Node>,
}

/// One node.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Node {
    pub(crate) name: Word,
    /// What stands in round brackets before it.
    pub(crate) ty: Option<Word>,
    pub(crate) entries: Vec<Entry>,
    pub(crate) children: Option<Document>,
}

/// A name, and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Word {
    pub(crate) text: String,
    pub(crate) at: At,
}

/// A value behind a node's name, or a property.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Entry {
    pub(crate) name: Option<Word>,
    pub(crate) value: Value,
    pub(crate) at: At,
}

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Value {
    Text(String),
    Integer(i128),
    Float(f64),
    Bool(bool),
    Null,
}

impl Document {
    /// Reads a text.
    ///
    /// # Errors
    /// The places where the writer slipped, at least one.
    pub(crate) fn read(text: &str) -> Result<Self, Vec<Slip>> {
        if let Some(refusal) = limits::refusal(text) {
            return Err(vec![refusal]);
        }
        if let Some(document) = plain::read(text) {
            return Ok(document);
        }
        if let Some(refusal) = limits::refusal_of_library(text) {
            let slips = notation::slips(text);
            return Err(if slips.is_empty() { vec![refusal] } else { slips });
        }
        match limits::with_room(|| Self::read_all(text)) {
            Ok(Err(too_deep)) => Err(vec![too_deep]),
            Ok(Ok(document)) => {
                let slips = notation::misread(text, &document);
                if slips.is_empty() { Ok(document) } else { Err(slips) }
            }
            Err(complaints) => {
                let slips = notation::slips(text);
                Err(if slips.is_empty() { vec![unknown_slip(text, &complaints)] } else { slips })
            }
        }
    }

    /// Whether a text keeps to what our own reading knows, which goes down a few braces and no further.
    pub(crate) fn is_plain(text: &str) -> bool {
        limits::refusal(text).is_none() && plain::read(text).is_some()
    }

    /// Reads a text with the library, whatever it uses of the language.
    fn read_all(text: &str) -> Result<Self, Vec<KdlDiagnostic>> {
        KdlDocument::parse_v2(text).map(|document| Self::from(&document)).map_err(|error| error.diagnostics)
    }
}

/// What the library complains of first, where it is no slip of a known kind. One slip makes it complain of every brace
/// around it as well: those complaints are only worth telling when there is nothing else to tell.
fn unknown_slip(text: &str, complaints: &[KdlDiagnostic]) -> Slip {
    let echo = |complaint: &&KdlDiagnostic| {
        complaint
            .message
            .as_ref()
            .is_some_and(|words| words.contains("losing '}'") || words.contains("end of document"))
    };
    let first = complaints.iter().find(|one| !echo(one)).or(complaints.first());
    let at = first.map_or((0, 1), |complaint| at(complaint.span));
    let help = first.and_then(|complaint| complaint.help.clone().or_else(|| complaint.message.clone()));
    Slip {
        at: (at.0.min(text.len()), at.1.min(text.len())),
        message: "this is not KDL 2, the notation of pipeline and configuration files".to_owned(),
        help: help.unwrap_or_default(),
    }
}

impl Value {
    pub(crate) fn as_text(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }
}

/// As it could be written.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let value = match self {
            Self::Text(text) => KdlValue::String(text.clone()),
            Self::Integer(number) => KdlValue::Integer(*number),
            Self::Float(number) => KdlValue::Float(*number),
            Self::Bool(yes) => KdlValue::Bool(*yes),
            Self::Null => KdlValue::Null,
        };
        fmt::Display::fmt(&value, f)
    }
}

fn at(span: SourceSpan) -> At {
    (span.offset(), span.offset() + span.len())
}

impl From<&KdlDocument> for Document {
    fn from(document: &KdlDocument) -> Self {
        Self { nodes: document.nodes().iter().map(Node::from).collect() }
    }
}

impl From<&KdlNode> for Node {
    fn from(node: &KdlNode) -> Self {
        Self {
            name: node.name().into(),
            ty: node.ty().map(Word::from),
            entries: node.entries().iter().map(Entry::from).collect(),
            children: node.children().map(Document::from),
        }
    }
}

impl From<&KdlIdentifier> for Word {
    fn from(name: &KdlIdentifier) -> Self {
        Self { text: name.value().to_owned(), at: at(name.span()) }
    }
}

impl From<&KdlEntry> for Entry {
    fn from(entry: &KdlEntry) -> Self {
        let value = match entry.value() {
            KdlValue::String(text) => Value::Text(text.clone()),
            KdlValue::Integer(number) => Value::Integer(*number),
            KdlValue::Float(number) => Value::Float(*number),
            KdlValue::Bool(yes) => Value::Bool(*yes),
            KdlValue::Null => Value::Null,
        };
        Self { name: entry.name().map(Word::from), value, at: at(entry.span()) }
    }
}
