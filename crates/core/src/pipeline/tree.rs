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

/// A place: the first byte, and the one after the last.
pub(super) type At = (usize, usize);

/// Nodes in their order.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Document {
    pub(super) nodes: Vec<Node>,
}

/// One node.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Node {
    pub(super) name: Word,
    /// What stands in round brackets before it.
    pub(super) ty: Option<Word>,
    pub(super) entries: Vec<Entry>,
    pub(super) children: Option<Document>,
}

/// A name, and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Word {
    pub(super) text: String,
    pub(super) at: At,
}

/// A value behind a node's name, or a property.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Entry {
    pub(super) name: Option<Word>,
    pub(super) value: Value,
    pub(super) at: At,
}

/// A value.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Value {
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
    /// What the library complains of.
    pub(super) fn read(text: &str) -> Result<Self, Vec<KdlDiagnostic>> {
        match plain::read(text) {
            Some(document) => Ok(document),
            None => Self::read_all(text),
        }
    }

    /// Reads a text with the library, whatever it uses of the language.
    fn read_all(text: &str) -> Result<Self, Vec<KdlDiagnostic>> {
        KdlDocument::parse_v2(text).map(|document| Self::from(&document)).map_err(|error| error.diagnostics)
    }
}

impl Value {
    pub(super) fn as_text(&self) -> Option<&str> {
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
