//! The text sitemap: one URL per line (sitemaps protocol 0.9).

use super::VisitorLine;
use crate::placement::{MOST_BYTES, MOST_URLS};

/// Divides lines into files within the limits; returns the range of lines of each file.
pub fn text_files(lines: &[VisitorLine<'_>]) -> Vec<(usize, usize)> {
    let mut files: Vec<(usize, usize)> = Vec::new();
    let mut bytes = 0;
    for (at, line) in lines.iter().enumerate() {
        let size = line.url.len() as u64 + 1;
        match files.last_mut() {
            Some((first, end)) if at - *first < MOST_URLS as usize && bytes + size <= MOST_BYTES => {
                *end = at + 1;
                bytes += size;
            }
            _ => {
                files.push((at, at + 1));
                bytes = size;
            }
        }
    }
    files
}

#[cfg(test)]
mod tests {
    use super::super::tests::line;
    use super::*;

    #[test]
    fn the_limits_of_the_protocol_hold() {
        let short = vec![line("https://www.marrowvale.example/", None); 100_001];
        assert_eq!(text_files(&short), [(0, 50_000), (50_000, 100_000), (100_000, 100_001)]);
        let url = format!("https://www.marrowvale.example/{}", "a".repeat(2000));
        let long = vec![line(&url, None); 40_000];
        let files = text_files(&long);
        assert_eq!(files.len(), 2);
        assert!((files[0].1 * (url.len() + 1)) as u64 <= MOST_BYTES);
        assert!(text_files(&[]).is_empty());
    }
}
