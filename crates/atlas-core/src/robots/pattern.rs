//! Patterns of paths (RFC 9309, section 2.2.3).

use serde::Serialize;

/// One rule: whether paths that match a pattern may be fetched.
#[derive(Debug, Clone, Serialize)]
pub(super) struct PathRule {
    pub(super) allow: bool,
    /// The pattern in comparable form.
    pub(super) pattern: String,
    /// The pattern as written.
    pub(super) written: String,
    /// Its line, counted from 1.
    pub(super) line: usize,
}

impl PathRule {
    /// How decisive it is: the longest pattern counts, and of equally long ones one that allows (RFC 9309, section 2.2.2).
    pub(super) fn weight(&self) -> (usize, bool) {
        (self.pattern.len(), self.allow)
    }
}

/// Matches from the start; `*` matches any run of characters, and a final `$` anchors at the end. The time is linear in
/// both, whatever the number of stars.
pub(super) fn matches(pattern: &str, path: &str) -> bool {
    let (pattern, anchored) = match pattern.strip_suffix('$') {
        Some(pattern) => (pattern, true),
        None => (pattern, false),
    };
    let mut pieces = pattern.split('*');
    let first = pieces.next().unwrap_or("");
    let Some(mut rest) = path.strip_prefix(first) else { return false };
    let mut pieces: Vec<&str> = pieces.collect();
    let last = if anchored { pieces.pop() } else { None };
    for piece in pieces {
        match rest.find(piece) {
            Some(at) => rest = &rest[at + piece.len()..],
            None => return false,
        }
    }
    match (anchored, last) {
        (false, _) => true,
        (true, None) => rest.is_empty(),
        (true, Some(last)) => rest.ends_with(last),
    }
}
