//! What in a file is not as the protocol and its extensions define it.

/// An element or attribute that is not as the protocol and its extensions define it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Oddity {
    /// The line of its start tag, counted from 1.
    pub line: u64,
    /// Its name as written.
    pub name: String,
    /// In which way it is odd.
    pub kind: OddityKind,
}

/// The ways in which an element can be odd.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OddityKind {
    /// It is defined, but not in this namespace, or not at this place. It is not read.
    Misplaced,
    /// Its namespace is one of the protocol or an extension, which does not define it.
    Unknown,
    /// Its namespace is none of them.
    Foreign,
    /// It was withdrawn from its extension.
    Withdrawn,
    /// It comes after one that must follow it.
    OutOfOrder,
    /// It is there a second time. The first one counts.
    Repeated,
}
