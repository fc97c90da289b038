//! Thirty days of a site, as placement sees them: how much an engine has to fetch again, compared with sorted
//! pagination.
//!
//! Each day 0.1 % of the entries are added, 0.5 % changed and 0.05 % removed. Changes happen in the newest tenth;
//! removals there too, or anywhere. An engine fetches a file again if it has changed. Sorted pagination divides the
//! entries anew each day: newest first, 50,000 per file.

use std::collections::BTreeMap;

use atlas_core::placement::{FileState, Limits, Placer, UrlsPerFile, Weight};

/// The bytes of a made-up entry.
const BYTES: u64 = 136;

struct Random(u64);

impl Random {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % most
    }
}

/// Prints the entries to fetch again as a share of those with sorted pagination.
pub fn run(entries: usize) {
    println!(
        "{entries} entries, thirty days: 0.1 % added, 0.5 % changed, 0.05 % removed a day, urls_per_file = \"auto\"\n"
    );
    println!("{:<28} {:>14} {:>14}", "removals fall", "entries", "bytes");
    for (name, newest) in [("anywhere", false), ("in the newest tenth", true)] {
        let (ours, theirs) = (kept_in_place(entries, newest), sorted(entries, newest));
        let share = |(ours, theirs): (u64, u64)| ours as f64 / theirs as f64;
        println!("{name:<28} {:>14.3} {:>14.3}", share((ours.0, theirs.0)), share((ours.1, theirs.1)));
    }
}

/// The entries that change and disappear on a day, all sorted by age.
fn day(live: usize, newest: bool, random: &mut Random) -> (Vec<usize>, Vec<usize>, usize) {
    let mut pick = |count: usize, newest: bool| -> Vec<usize> {
        let from = if newest { live - live / 10 } else { 0 };
        (0..count).map(|_| from + random.below(live - from)).collect()
    };
    let (changed, mut gone) = (pick(live / 200, true), pick(live / 2000, newest));
    gone.sort_unstable();
    gone.dedup();
    (changed, gone, live / 1000)
}

/// What is fetched again if entries stay in their files: entries and bytes.
fn kept_in_place(entries: usize, newest: bool) -> (u64, u64) {
    let mut random = Random(11);
    let weight = |number: usize| Weight { bytes: BYTES + (number % 40) as u64, media: 0 };
    let auto = |size: usize| Limits { urls: UrlsPerFile::Auto.when_opened(size), bytes: 50_000_000, media: 20_000 };
    let mut shelf = Placer::new(Vec::new(), 1);
    // By age: the entry's number and its file.
    let mut live: Vec<(usize, u32)> = (0..entries).map(|one| (one, shelf.place(weight(one), auto(entries)))).collect();
    let mut limits: BTreeMap<u32, Limits> = shelf.files().iter().map(|file| (file.number, file.limits)).collect();
    let (mut next, mut fetched) = (entries, (0, 0));
    for _ in 0..30 {
        let (changed, gone, added) = day(live.len(), newest, &mut random);
        let mut touched: BTreeMap<u32, ()> = changed.iter().map(|at| (live[*at].1, ())).collect();
        touched.extend(gone.iter().map(|at| (live[*at].1, ())));
        gone.iter().rev().for_each(|at| {
            live.remove(*at);
        });
        let mut states: BTreeMap<u32, FileState> = BTreeMap::new();
        for (one, number) in &live {
            let state = states.entry(*number).or_insert(FileState {
                number: *number,
                limits: limits[number],
                urls: 0,
                bytes: 0,
                media: 0,
            });
            state.urls += 1;
            state.bytes += weight(*one).bytes;
        }
        shelf = Placer::new(states.into_values().collect(), shelf.next_number());
        let folded = shelf.fold(true);
        let size = live.len();
        for (one, number) in live.iter_mut().filter(|(_, number)| folded.contains(number)) {
            *number = shelf.place(weight(*one), auto(size));
            touched.insert(*number, ());
        }
        for _ in 0..added {
            let number = shelf.place(weight(next), auto(size));
            touched.insert(number, ());
            live.push((next, number));
            next += 1;
        }
        for file in shelf.files() {
            limits.entry(file.number).or_insert(file.limits);
            if touched.contains_key(&file.number) {
                fetched.0 += u64::from(file.urls);
                fetched.1 += file.bytes;
            }
        }
    }
    fetched
}

/// What is fetched again if each day's entries are sorted, newest first, and divided anew.
fn sorted(entries: usize, newest: bool) -> (u64, u64) {
    const FILE: usize = 50_000;
    let mut random = Random(11);
    let weight = |number: usize| BYTES + (number % 40) as u64;
    // The version of an entry increases when it changes.
    let mut live: Vec<(usize, u32)> = (0..entries).map(|one| (one, 0)).collect();
    let (mut next, mut fetched) = (entries, (0, 0));
    for _ in 0..30 {
        let before: Vec<Vec<(usize, u32)>> = live.rchunks(FILE).map(<[_]>::to_vec).collect();
        let (changed, gone, added) = day(live.len(), newest, &mut random);
        changed.iter().for_each(|at| live[*at].1 += 1);
        gone.iter().rev().for_each(|at| {
            live.remove(*at);
        });
        live.extend((next..next + added).map(|one| (one, 0)));
        next += added;
        for (at, file) in live.rchunks(FILE).enumerate() {
            if before.get(at).is_none_or(|before| before != file) {
                fetched.0 += file.len() as u64;
                fetched.1 += file.iter().map(|(one, _)| weight(*one)).sum::<u64>();
            }
        }
    }
    fetched
}
