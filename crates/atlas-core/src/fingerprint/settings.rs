//! Fingerprints of settings.

use std::hash::{BuildHasher, Hasher, RandomState};

use serde::Serialize;
use xxhash_rust::xxh3::xxh3_64;

/// Settings that affect what is written, given as any text that spells them out.
pub fn settings(text: &str) -> u64 {
    xxh3_64(text.as_bytes())
}

/// Settings in their canonical form: JSON, field by field in the order of declaration.
pub fn canonical(settings: &impl Serialize) -> u64 {
    // Settings always serialize. Should that ever fail, no two fingerprints are equal.
    serde_json::to_vec(settings).map_or_else(|_| RandomState::new().build_hasher().finish(), |bytes| xxh3_64(&bytes))
}
