//! Files that a build would write over although another tool, or the site's owner, wrote them.

use std::collections::BTreeSet;

use atlas_core::address::Site;
use atlas_core::placement::{is_packed, plain_name};

use super::ours::is_own_file;
use crate::destination::ROBOTS;
use crate::disk::segmented_gzip::unpack;
use crate::error::StoreError;
use crate::ledger::Ledger;
use crate::publish::Publisher;

/// The names, among those at stake, of files that are not ours: the ledger does not list them, they are not what would
/// be written, and they do not carry our mark. The main file comes first.
pub(crate) fn foreign(
    publisher: &Publisher<'_>,
    at_stake: &BTreeSet<String>,
    site: &Site,
    ledger: &dyn Ledger,
) -> Result<Vec<String>, StoreError> {
    let Publisher { remembered, destination, names, .. } = publisher;
    let known =
        |name: &str| name == ROBOTS || remembered.outputs.contains_key(name) || remembered.planned.contains(name);
    let mut foreign = Vec::new();
    for name in at_stake.iter().filter(|name| !known(name)) {
        let Some(bytes) = destination.read(name)? else { continue };
        if !is_own_file(name, &bytes, site) && !would_write(publisher, name, &bytes, ledger)? {
            foreign.push(name.clone());
        }
    }
    foreign.sort_by_key(|name| plain_name(name) != names.main);
    Ok(foreign)
}

/// Whether the bytes of a file are what this build would write.
fn would_write(publisher: &Publisher<'_>, name: &str, bytes: &[u8], ledger: &dyn Ledger) -> Result<bool, StoreError> {
    if let Some(extra) = publisher.extra_files.iter().find(|extra| extra.name == name) {
        return Ok(extra.bytes() == bytes);
    }
    let plain = if is_packed(name) { unpack(bytes, u64::MAX - 1).unwrap_or_default() } else { bytes.to_owned() };
    let is_named = |at: &usize| {
        let (one, other) = publisher.names.names(&publisher.plan.files[*at].name(), publisher.form);
        one.as_deref() == Some(name) || other.as_deref() == Some(name)
    };
    let Some(at) = (0..publisher.plan.files.len()).find(is_named) else { return Ok(false) };
    Ok(publisher.will_be(at, ledger)? == (crc32fast::hash(&plain), plain.len() as u64))
}
