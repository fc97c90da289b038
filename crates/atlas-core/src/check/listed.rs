//! The listed URLs that are visited afterwards: all of them, or a sample that is the same each time.

use std::collections::BTreeMap;

/// Which of the listed URLs are wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum PageSample {
    /// None.
    #[default]
    None,
    /// All.
    All,
    /// So many, spread over all files.
    Some(usize),
}

/// What a file that belongs to a page is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum MediaKind {
    /// A picture.
    Picture,
    /// The thumbnail of a video.
    Thumbnail,
    /// The media file of a video.
    Video,
    /// The player of a video, as pages embed it.
    Player,
}

/// A listed URL that is to be visited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ListedPage {
    /// The URL.
    pub url: String,
    /// The sitemap file that lists it.
    pub file: String,
    /// The line in the file.
    pub line: u64,
    /// Its pictures and videos.
    pub media: Vec<(MediaKind, String)>,
    /// Decides whether it is in a sample.
    pub(super) key: u64,
}

impl PageSample {
    /// Drops what cannot be in the sample from the URLs of one file.
    pub(super) fn trim(self, listed: &mut Vec<ListedPage>) {
        if let Self::Some(most) = self
            && listed.len() > most
        {
            listed.select_nth_unstable_by_key(most, |one| one.key);
            listed.truncate(most);
        }
    }

    /// The sample from the URLs of all files: as many of each as there is room for, in the order of the files.
    pub(super) fn draw(self, listed: Vec<ListedPage>) -> Vec<ListedPage> {
        let Self::Some(most) = self else { return listed };
        let mut files: BTreeMap<String, Vec<ListedPage>> = BTreeMap::new();
        let mut order = Vec::new();
        for one in listed {
            let of_file = files.entry(one.file.clone()).or_insert_with(|| {
                order.push(one.file.clone());
                Vec::new()
            });
            of_file.push(one);
        }
        files.values_mut().for_each(|of_file| of_file.sort_by_key(|one| std::cmp::Reverse(one.key)));
        let mut drawn = Vec::new();
        while drawn.len() < most && files.values().any(|of_file| !of_file.is_empty()) {
            for file in &order {
                let next = files.get_mut(file).and_then(Vec::pop).filter(|_| drawn.len() < most);
                drawn.extend(next);
            }
        }
        let place: BTreeMap<&str, usize> = order.iter().enumerate().map(|(at, file)| (file.as_str(), at)).collect();
        drawn.sort_by_key(|one| (place.get(one.file.as_str()).copied(), one.line));
        drawn
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sample_is_spread_over_all_files_and_always_the_same() {
        let listed = |file: &str, number: u64| ListedPage {
            url: format!("https://www.marrowvale.example/{file}/{number}"),
            file: file.to_owned(),
            line: number,
            media: Vec::new(),
            key: number * 7 % 11,
        };
        let all: Vec<ListedPage> = (0..10).map(|n| listed("a", n)).chain((0..2).map(|n| listed("b", n))).collect();
        let lines = |drawn: Vec<ListedPage>| drawn.into_iter().map(|one| (one.file, one.line)).collect::<Vec<_>>();
        let drawn = lines(PageSample::Some(5).draw(all.clone()));
        let wanted = [("a", 0), ("a", 5), ("a", 8), ("b", 0), ("b", 1)];
        assert_eq!(drawn, wanted.map(|(file, line)| (file.to_owned(), line)));
        let mut trimmed: Vec<ListedPage> = all.iter().filter(|one| one.file == "a").cloned().collect();
        PageSample::Some(3).trim(&mut trimmed);
        trimmed.extend(all.iter().filter(|one| one.file == "b").cloned());
        assert_eq!(lines(PageSample::Some(5).draw(trimmed)), drawn);
        assert_eq!(PageSample::All.draw(all).len(), 12);
    }
}
