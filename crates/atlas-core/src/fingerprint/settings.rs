//! Fingerprints of settings.

use std::hash::{BuildHasher, Hasher, RandomState};

use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;

/// Settings that have a say in what is written, from any text that spells them out.
pub fn settings(text: &str) -> u64 {
    xxh3_64(text.as_bytes())
}

/// Settings in their canonical form: as JSON, field by field in the order of their declaration.
pub fn canonical(settings: &impl Serialize) -> u64 {
    // What settings consist of has nothing that JSON could refuse; should it all the same, no two are alike.
    serde_json::to_vec(settings).map_or_else(|_| RandomState::new().build_hasher().finish(), |bytes| xxh3_64(&bytes))
}
