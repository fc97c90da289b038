//! The register: all remembered entries in memory, so that a row that is as it was is known at once and let go.

use std::hint::black_box;
use std::sync::atomic::{AtomicBool, Ordering};

use rayon::prelude::*;

const FREE: u32 = u32::MAX;
/// The number of parts that the entries are dealt into: so many that one fits into the processor's cache while it is made.
const PARTS: usize = 64;

/// The remembered entries in the strand of the pages, found by their keys.
#[derive(Debug)]
pub(crate) struct Register {
    parts: Vec<Vec<Slot>>,
    clash: AtomicBool,
}

/// A register that is being filled.
#[derive(Debug)]
pub(crate) struct Filling(Vec<Vec<Slot>>);

/// An entry, or room for one. One is looked at for each row, and is seldom in the processor's cache: all that is asked for stands
/// together.
#[derive(Debug)]
struct Slot {
    /// The higher half of its key.
    tag: u64,
    /// By what its row is known; 0 where it is not.
    raw: u64,
    /// Its place among all that are remembered.
    at: u32,
    met: AtomicBool,
}

/// How many slots so many entries have.
const fn slots(entries: usize) -> usize {
    entries + entries / 5 + 8
}

/// The slot, of so many, from which on an entry is looked for.
fn home(tag: u64, slots: usize) -> usize {
    ((u128::from(tag << 6) * slots as u128) >> 64) as usize
}

fn next(slot: usize, slots: usize) -> usize {
    if slot + 1 == slots { 0 } else { slot + 1 }
}

fn part_of(tag: u64) -> usize {
    (tag >> 58) as usize
}

impl Filling {
    /// Room for so many entries.
    pub(crate) fn with_room(entries: usize) -> Self {
        let share = entries / PARTS + entries / PARTS / 32 + 64;
        Self((0..PARTS).map(|_| Vec::with_capacity(share)).collect())
    }

    /// Adds an entry that has this place among all that are remembered.
    pub(crate) fn push(&mut self, key: u128, raw: u64, at: u32) {
        let tag = (key >> 64) as u64;
        self.0[part_of(tag)].push(Slot { tag, raw, at, met: AtomicBool::new(false) });
    }

    /// Makes the register.
    pub(crate) fn done(self) -> Register {
        let table = |entries: Vec<Slot>| {
            let all = slots(entries.len());
            let free = || Slot { tag: 0, raw: 0, at: FREE, met: AtomicBool::new(false) };
            let mut table: Vec<Slot> = (0..all).map(|_| free()).collect();
            for entry in entries {
                let mut slot = home(entry.tag, all);
                while table[slot].at != FREE {
                    slot = next(slot, all);
                }
                table[slot] = entry;
            }
            table
        };
        Register { parts: self.0.into_par_iter().map(table).collect(), clash: AtomicBool::new(false) }
    }
}

impl Register {
    /// Whether so many entries may be held in so many bytes.
    pub(crate) fn holds(entries: usize, bytes: usize) -> bool {
        slots(entries) * size_of::<Slot>() <= bytes
    }

    /// Asks for the slots of many keys at once, so that the waits for memory overlap.
    pub(crate) fn fetch(&self, keys: impl Iterator<Item = u128>) {
        black_box(keys.fold(0, |all, key| {
            let tag = (key >> 64) as u64;
            let part = &self.parts[part_of(tag)];
            all ^ part[home(tag, part.len())].tag
        }));
    }

    fn slot_of(&self, key: u128) -> Option<&Slot> {
        let tag = (key >> 64) as u64;
        let part = &self.parts[part_of(tag)];
        let mut at = home(tag, part.len());
        loop {
            match &part[at] {
                Slot { at: FREE, .. } => return None,
                slot if slot.tag == tag => return Some(slot),
                _ => at = next(at, part.len()),
            }
        }
    }

    /// Whether this is the row of a remembered entry, and as it was. Then nothing more is asked of it.
    pub(crate) fn knows(&self, key: u128, raw: u64) -> bool {
        let Some(slot) = self.slot_of(key).filter(|slot| slot.raw == raw) else { return false };
        if slot.met.swap(true, Ordering::Relaxed) {
            self.clash.store(true, Ordering::Relaxed);
        }
        true
    }

    /// The place of an entry of which a row speaks that is not as it was.
    pub(crate) fn find(&self, key: u128) -> Option<u32> {
        let slot = self.slot_of(key)?;
        if slot.met.load(Ordering::Relaxed) {
            self.clash.store(true, Ordering::Relaxed);
        }
        Some(slot.at)
    }

    /// Whether several rows speak of one entry, of which one was let go: then all rows have to be read.
    pub(crate) fn clashes(&self) -> bool {
        self.clash.load(Ordering::Relaxed)
    }

    /// The places of the entries whose rows were known, in no order that means anything.
    pub(crate) fn known(&self) -> impl Iterator<Item = u32> {
        self.parts.iter().flatten().filter(|slot| slot.met.load(Ordering::Relaxed)).map(|slot| slot.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(number: u128) -> u128 {
        number.wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835)
    }

    #[test]
    fn a_row_is_known_by_key_and_raw_print_and_two_of_one_entry_clash() {
        let mut register = Filling::with_room(1000);
        for number in 0..1000u32 {
            // As if entries of another strand stood between.
            register.push(key(number.into()), u64::from(number % 3), number + number / 400 * 10);
        }
        let register = register.done();
        register.fetch((0..9).map(key));
        assert!(register.knows(key(500), 2));
        assert!(!register.knows(key(501), 2), "it says something else");
        assert!(!register.knows(key(1001), 2), "it is new");
        assert_eq!(register.find(key(501)), Some(511));
        assert_eq!(register.find(key(1001)), None);
        assert_eq!(register.known().collect::<Vec<_>>(), [510]);
        assert!(!register.clashes());
        register.find(key(500));
        assert!(register.clashes(), "a row that was let go, and another that was not");
    }
}
