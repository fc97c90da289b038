//! The register: all remembered entries in memory, so that a row that is as it was is known at once and let go.

use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};

/// An entry's bytes in the register, its share of the slots included.
const ENTRY: usize = 34;
const FREE: u32 = u32::MAX;

/// The remembered entries in the strand of the pages, found by their keys.
#[derive(Debug)]
pub(crate) struct Register {
    /// By slot: the place of an entry among those of the register.
    slots: Vec<u32>,
    keys: Vec<u128>,
    /// By what rows are known; 0 where none is.
    raws: Vec<u64>,
    met: Vec<AtomicU8>,
    /// The places of the entries among all that are remembered, where the two differ: runs of entries with what is to be added.
    shifts: Vec<(u32, u32)>,
    clash: AtomicBool,
}

impl Register {
    /// Whether so many entries may be held in so many bytes.
    pub(crate) fn holds(entries: usize, bytes: usize) -> bool {
        entries * ENTRY <= bytes
    }

    /// Room for so many entries.
    pub(crate) fn with_room(entries: usize) -> Self {
        let slots = (entries * 8 / 5).next_power_of_two().max(16);
        Self {
            slots: vec![FREE; slots],
            keys: Vec::with_capacity(entries),
            raws: Vec::with_capacity(entries),
            met: Vec::new(),
            shifts: Vec::new(),
            clash: AtomicBool::new(false),
        }
    }

    fn slot(&self, key: u128) -> usize {
        (key >> 64) as usize & (self.slots.len() - 1)
    }

    /// Adds an entry that has this place among all that are remembered: in their order.
    pub(crate) fn push(&mut self, key: u128, raw: u64, at: u32) {
        let own = self.keys.len() as u32;
        if self.shifts.last().map_or(0, |(_, shift)| *shift) != at - own {
            self.shifts.push((own, at - own));
        }
        let mut slot = self.slot(key);
        while self.slots[slot] != FREE {
            slot = (slot + 1) & (self.slots.len() - 1);
        }
        self.slots[slot] = own;
        self.keys.push(key);
        self.raws.push(raw);
    }

    /// Ends filling in.
    pub(crate) fn close(&mut self) {
        self.met = self.keys.iter().map(|_| AtomicU8::new(0)).collect();
    }

    fn find_own(&self, key: u128) -> Option<usize> {
        let mut slot = self.slot(key);
        loop {
            match self.slots[slot] {
                FREE => return None,
                own if self.keys[own as usize] == key => return Some(own as usize),
                _ => slot = (slot + 1) & (self.slots.len() - 1),
            }
        }
    }

    fn place_of(&self, own: usize) -> u32 {
        let run = self.shifts.partition_point(|(first, _)| *first as usize <= own);
        own as u32 + run.checked_sub(1).map_or(0, |run| self.shifts[run].1)
    }

    /// Whether this is the row of a remembered entry, and as it was. Then nothing more is asked of it.
    pub(crate) fn knows(&self, key: u128, raw: u64) -> bool {
        let Some(own) = self.find_own(key).filter(|own| self.raws[*own] == raw) else { return false };
        if self.met[own].swap(1, Ordering::Relaxed) != 0 {
            self.clash.store(true, Ordering::Relaxed);
        }
        true
    }

    /// The place of an entry of which a row speaks that is not as it was.
    pub(crate) fn find(&self, key: u128) -> Option<u32> {
        let own = self.find_own(key)?;
        if self.met[own].load(Ordering::Relaxed) != 0 {
            self.clash.store(true, Ordering::Relaxed);
        }
        Some(self.place_of(own))
    }

    /// Whether several rows speak of one entry, of which one was let go: then all rows have to be read.
    pub(crate) fn clashes(&self) -> bool {
        self.clash.load(Ordering::Relaxed)
    }

    /// The places of the entries whose rows were known.
    pub(crate) fn known(&self) -> impl Iterator<Item = u32> {
        let met = self.met.iter().enumerate().filter(|(_, met)| met.load(Ordering::Relaxed) != 0);
        met.map(|(own, _)| self.place_of(own))
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
        let mut register = Register::with_room(1000);
        for number in 0..1000u32 {
            // As if entries of another strand stood between.
            register.push(key(number.into()), u64::from(number % 3), number + number / 400 * 10);
        }
        register.close();
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
