//! The placer: assigns the entries of a section to files, by counts alone.

use super::limits::{Limits, Weight};

/// The counts of one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FileState {
    /// Its number within the section.
    pub number: u32,
    /// Its limits.
    pub limits: Limits,
    /// The number of `url` elements in it.
    pub urls: u32,
    /// Their bytes.
    pub bytes: u64,
    /// Their pictures and videos.
    pub media: u64,
}

impl FileState {
    fn is_overfull(&self) -> bool {
        self.urls > self.limits.urls || self.bytes > self.limits.bytes || self.media > u64::from(self.limits.media)
    }

    /// An entry that is larger than the limit gets a file of its own: it has to go somewhere.
    fn has_room(&self, weight: Weight) -> bool {
        self.urls == 0
            || (self.urls < self.limits.urls
                && self.bytes + weight.bytes <= self.limits.bytes
                && self.media + u64::from(weight.media) <= u64::from(self.limits.media))
    }

    fn is_half_empty(&self) -> bool {
        u64::from(self.urls) * 2 < u64::from(self.limits.urls)
            && self.bytes * 2 < self.limits.bytes
            && self.media * 2 < u64::from(self.limits.media)
    }
}

/// The files of one kind in a section, in the order of their numbers.
#[derive(Debug, Clone)]
pub struct Placer {
    files: Vec<FileState>,
    next_number: u32,
    sealed: bool,
}

impl Placer {
    /// Starts from the existing files, after removed entries have been taken out.
    pub fn new(mut standing: Vec<FileState>, next_number: u32) -> Self {
        standing.sort_by_key(|file| file.number);
        Self { files: standing, next_number, sealed: false }
    }

    /// The files, in the order of their numbers.
    pub fn files(&self) -> &[FileState] {
        &self.files
    }

    /// The number of the next file to be opened.
    pub fn next_number(&self) -> u32 {
        self.next_number
    }

    /// The number of a file that is over its limits, if there is one: take entries out, starting at its end.
    pub fn overfull(&self) -> Option<u32> {
        self.files.iter().find(|file| file.is_overfull() && file.urls > 1).map(|file| file.number)
    }

    /// Takes one entry out of a file.
    pub fn take_out(&mut self, number: u32, weight: Weight) {
        if let Some(file) = self.files.iter_mut().find(|file| file.number == number) {
            file.urls = file.urls.saturating_sub(1);
            file.bytes = file.bytes.saturating_sub(weight.bytes);
            file.media = file.media.saturating_sub(u64::from(weight.media));
        }
    }

    /// Closes all existing files, so that new entries open another. Used if the open file itself loses entries to other
    /// files, so that no file both gains and loses entries in one build.
    pub fn seal(&mut self) {
        self.sealed = true;
    }

    /// Removes the files that are less than half full, and empty ones; returns their numbers. Their entries must be
    /// placed again. The open file is kept, unless it is sealed and entries are waiting (`arrivals`): then another file
    /// is opened, and this one would be folded by the next build.
    pub fn fold(&mut self, arrivals: bool) -> Vec<u32> {
        let open = self.files.last().map(|file| file.number);
        let small = |file: &FileState| file.urls == 0 || file.is_half_empty();
        let waiting =
            arrivals || self.files.iter().any(|file| Some(file.number) != open && small(file) && file.urls > 0);
        let spared = |file: &FileState| Some(file.number) == open && file.urls > 0 && !(self.sealed && waiting);
        let folded: Vec<u32> =
            self.files.iter().filter(|file| small(file) && !spared(file)).map(|file| file.number).collect();
        self.files.retain(|file| !folded.contains(&file.number));
        // Once the open file is removed, no older, closed file must become the open one.
        self.sealed |= self.files.last().map(|file| file.number) != open;
        folded
    }

    /// Places one entry of this weight; `opening` are the limits of a file that is opened for it. Returns the number of
    /// the file.
    pub fn place(&mut self, weight: Weight, opening: Limits) -> u32 {
        if !self.sealed
            && let Some(open) = self.files.last_mut()
            && open.has_room(weight)
        {
            open.urls += 1;
            open.bytes += weight.bytes;
            open.media += u64::from(weight.media);
            return open.number;
        }
        self.sealed = false;
        let number = self.next_number;
        self.next_number += 1;
        let Weight { bytes, media } = weight;
        self.files.push(FileState { number, limits: opening, urls: 1, bytes, media: u64::from(media) });
        number
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_limit_that_is_reached_by_bytes_first() {
        let mut placer = Placer::new(vec![], 1);
        let limits = Limits { urls: 100, bytes: 250, media: 100 };
        let numbers: Vec<u32> = (0..5).map(|_| placer.place(Weight { bytes: 100, media: 0 }, limits)).collect();
        assert_eq!(numbers, [1, 1, 2, 2, 3]);
    }

    #[test]
    fn a_limit_that_is_reached_by_media_first() {
        let mut placer = Placer::new(vec![], 1);
        let limits = Limits { urls: 100, bytes: 250, media: 100 };
        let media = [40, 60, 1, 1000, 0];
        let numbers: Vec<u32> = media.map(|media| placer.place(Weight { bytes: 1, media }, limits)).to_vec();
        assert_eq!(numbers, [1, 1, 2, 3, 4], "an entry above the limit itself has a file alone");
    }

    /// A section as the store drives it: which entry is in which file, and how large each entry is.
    #[derive(Default)]
    struct Model {
        files: BTreeMap<u32, Vec<u32>>,
        limits: BTreeMap<u32, Limits>,
        sizes: BTreeMap<u32, Weight>,
        next_number: u32,
        next_entry: u32,
    }

    impl Model {
        fn build(&mut self, limits: Limits) -> Vec<(u32, u32)> {
            let state = |(number, members): (&u32, &Vec<u32>)| FileState {
                number: *number,
                limits,
                urls: members.len() as u32,
                bytes: members.iter().map(|entry| self.sizes[entry].bytes).sum(),
                media: members.iter().map(|entry| u64::from(self.sizes[entry].media)).sum(),
            };
            let mut placer = Placer::new(self.files.iter().map(state).collect(), self.next_number);
            let open = self.files.keys().last().copied();
            let mut moved = Vec::new();
            while let Some(number) = placer.overfull() {
                let entry = self.files.get_mut(&number).unwrap().pop().unwrap();
                placer.take_out(number, self.sizes[&entry]);
                moved.push((entry, number));
                if Some(number) == open {
                    placer.seal();
                }
            }
            let placed: usize = self.files.values().map(Vec::len).sum();
            for number in placer.fold(placed < self.sizes.len()) {
                moved.extend(self.files.remove(&number).unwrap().into_iter().map(|entry| (entry, number)));
            }
            let placed: Vec<u32> = self.files.values().flatten().copied().collect();
            let arrivals: Vec<u32> = self.sizes.keys().filter(|entry| !placed.contains(entry)).copied().collect();
            for entry in arrivals {
                let number = placer.place(self.sizes[&entry], limits);
                self.files.entry(number).or_default().push(entry);
                self.limits.insert(number, limits);
            }
            self.next_number = placer.next_number();
            moved
        }
    }

    #[derive(Debug, Clone)]
    enum PlacerStep {
        Add(u8),
        Remove(u8),
        Grow(u8, u8),
        Limit(u8),
    }

    fn day() -> impl Strategy<Value = PlacerStep> {
        prop_oneof![
            (0u8..40).prop_map(PlacerStep::Add),
            any::<u8>().prop_map(PlacerStep::Remove),
            (any::<u8>(), 1u8..90).prop_map(|(entry, size)| PlacerStep::Grow(entry, size)),
            (4u8..30).prop_map(PlacerStep::Limit),
        ]
    }

    proptest! {
        #[test]
        fn limits_hold_and_entries_stay(days in proptest::collection::vec(day(), 1..60)) {
            let mut model = Model { next_number: 1, ..Model::default() };
            let mut limits = Limits { urls: 10, bytes: 400, media: 60 };
            for day in days {
                let before: BTreeMap<u32, Vec<u32>> = model.files.clone();
                match day {
                    PlacerStep::Add(count) => for _ in 0..count {
                        let bytes = 20 + u64::from(model.next_entry % 30);
                        model.sizes.insert(model.next_entry, Weight { bytes, media: model.next_entry % 17 });
                        model.next_entry += 1;
                    },
                    PlacerStep::Remove(step) => {
                        let every = usize::from(step) % 7 + 2;
                        let gone: Vec<u32> = model.sizes.keys().copied().step_by(every).collect();
                        gone.iter().for_each(|entry| { model.sizes.remove(entry); });
                        model.files.values_mut().for_each(|members| members.retain(|entry| !gone.contains(entry)));
                    }
                    PlacerStep::Grow(entry, size) => {
                        if let Some(weight) = model.sizes.get_mut(&u32::from(entry)) {
                            *weight = Weight { bytes: u64::from(size), media: u32::from(size) / 3 };
                        }
                    }
                    PlacerStep::Limit(urls) => limits.urls = u32::from(urls),
                }
                let moved = model.build(limits);
                prop_assert_eq!(model.build(limits), [], "a second build moves nothing");
                let mut seen = std::collections::BTreeSet::new();
                for (number, members) in &model.files {
                    prop_assert!(!members.is_empty(), "an empty file is invalid");
                    prop_assert!(members.len() as u32 <= limits.urls);
                    let bytes: u64 = members.iter().map(|entry| model.sizes[entry].bytes).sum();
                    let media: u32 = members.iter().map(|entry| model.sizes[entry].media).sum();
                    prop_assert!(bytes <= limits.bytes && media <= limits.media);
                    for entry in members {
                        prop_assert!(seen.insert(*entry), "each entry lives in one file");
                        let home = before.iter().find(|(_, members)| members.contains(entry)).map(|(number, _)| *number);
                        let had_cause = moved.iter().any(|(one, _)| one == entry);
                        prop_assert!(home.is_none() || home == Some(*number) || had_cause, "moved without cause");
                    }
                }
                prop_assert_eq!(seen.len(), model.sizes.len());
                prop_assert!(model.files.keys().all(|number| *number < model.next_number));
            }
        }
    }
}
