//! Finding out what URLs that are no longer listed answer today.

use atlas_core::address;
use atlas_core::check::{GoneTrail, MissingPage, PageVisit, each_url, trouble};
use atlas_core::format::decode;
use atlas_core::page::PageReader;
use atlas_core::placement::MOST_BYTES;
use atlas_store::error::StoreError;
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use reqwest::Method;

use super::server::{REDIRECTS, SiteServer};
use crate::http::may_lead;

/// The most files of an older sitemap that are read.
const MOST_FILES: usize = 1_000;

/// The answers on the way from a URL to where it leads.
#[derive(Debug, Clone)]
pub(super) struct Followed {
    /// The address and the status of each answer; 0 if there was none.
    pub(super) steps: Vec<(String, u16)>,
    pub(super) first: PageVisit,
    pub(super) last: PageVisit,
}

impl SiteServer {
    /// Follows the redirects of an address.
    pub(super) async fn trace(&self, url: &str) -> Followed {
        let first = self.visit(url, Method::GET).await;
        let mut followed = Followed { steps: Vec::new(), first: first.clone(), last: first };
        let mut at = url.to_owned();
        for _ in 0..=REDIRECTS {
            let seen = followed.last.seen.as_ref().ok();
            followed.steps.push((at.clone(), seen.map_or(0, |seen| seen.status)));
            let target = seen.and_then(|seen| seen.location.clone().filter(|_| (300..400).contains(&seen.status)));
            let Some(target) = target.filter(|target| may_lead(address::host(&at), address::host(target))) else {
                break;
            };
            at = target;
            self.take_turn().await;
            followed.last = self.visit(&at, Method::GET).await;
        }
        followed
    }

    /// What became of URLs, in their order; `progress` is called with the number of those that were visited. If it was
    /// asked to stop, those that were visited until then.
    pub fn trails(&self, urls: &[String], reader: &PageReader, progress: &dyn Fn(u64)) -> Vec<(usize, GoneTrail)> {
        let origin = urls.first().map(|url| address::origin(url).to_owned()).unwrap_or_default();
        let missing = self.missing_page(&origin, reader);
        let mut trails = Vec::new();
        // Without a result, work was asked to stop; what was found until then counts.
        let _ = self.block_on(async {
            let mut next = urls.iter().enumerate();
            let mut under_way = FuturesUnordered::new();
            loop {
                while under_way.len() < self.pace.connections
                    && let Some((at, url)) = next.next()
                {
                    self.take_turn().await;
                    under_way.push(async move { (at, self.trace(url).await) });
                }
                let Some((at, followed)) = under_way.next().await else { return };
                trails.push((at, trail(&followed, &missing, reader)));
                progress(trails.len() as u64);
            }
        });
        trails.sort_by_key(|(at, _)| *at);
        trails
    }

    /// The URLs in an older sitemap, or in any list, at an address.
    ///
    /// # Errors
    ///
    /// Returns in words why there are none.
    pub fn listed_at(&self, address: &str) -> Result<Vec<String>, String> {
        let mut urls = Vec::new();
        let mut waiting = vec![address.to_owned()];
        let mut read = 0;
        while let Some(file) = waiting.pop().filter(|_| read < MOST_FILES) {
            let reply = self.block_on(async {
                self.take_turn().await;
                self.ask(&file, MOST_BYTES as usize).await
            });
            let reply = reply.ok_or_else(|| StoreError::Interrupted.to_string())?;
            if reply.answer.status != 200 {
                let why = reply.answer.silence.map_or(format!("answers {}", reply.answer.status), |(_, why)| why);
                if read == 0 {
                    return Err(format!("{file}: {why}"));
                }
                continue;
            }
            read += 1;
            take_urls(&reply.plain(&file), &mut urls, &mut waiting);
        }
        Ok(urls)
    }
}

/// Takes the URLs of a file: of a sitemap or feed, or the first one in each line. Those of an index go into `files`.
pub fn take_urls(bytes: &[u8], urls: &mut Vec<String>, files: &mut Vec<String>) {
    let text = String::from_utf8_lossy(&decode(bytes).bytes).into_owned();
    let text = text.trim_start_matches('\u{feff}');
    if text.trim_start().starts_with('<') {
        return each_url(
            bytes,
            |url, is_file| if is_file { files.push(url.to_owned()) } else { urls.push(url.to_owned()) },
        );
    }
    let is_url = |word: &&str| word.starts_with("http://") || word.starts_with("https://");
    for line in text.lines() {
        let words = || line.split([',', '\t', ';', ' ', '"']).map(str::trim);
        // A path counts only at the beginning of a line: elsewhere it may be anything.
        let path = words().find(|word| !word.is_empty()).filter(|word| word.starts_with('/'));
        urls.extend(words().find(is_url).or(path).map(str::to_owned));
    }
}

fn trail(followed: &Followed, missing: &MissingPage, reader: &PageReader) -> GoneTrail {
    let end = followed.steps.last().map_or("", |(url, _)| url.as_str());
    let found = trouble(end, &followed.last, missing, reader);
    let is_there = followed.steps.last().is_some_and(|(_, status)| *status == 200);
    GoneTrail { steps: followed.steps.clone(), trouble: found.filter(|_| is_there).map(|(kind, _)| kind.code) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::lines("https://a.example/1\n\n# x\nhttps://a.example/2", &["https://a.example/1", "https://a.example/2"])]
    #[case::a_table("\u{feff}Page,Clicks\n\"https://a.example/1\",7\nnone,https://a.example/2\n", &["https://a.example/1", "https://a.example/2"])]
    #[case::paths("/old/\t3\nlamp oil\n", &["/old/"])]
    #[case::a_sitemap("\u{feff}<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc>https://a.example/1</loc></url></urlset>", &["https://a.example/1"])]
    fn urls_of_any_list(#[case] text: &str, #[case] wanted: &[&str]) {
        let (mut urls, mut files) = (Vec::new(), Vec::new());
        take_urls(text.as_bytes(), &mut urls, &mut files);
        assert_eq!((urls, files.len()), (wanted.iter().map(|url| (*url).to_owned()).collect(), 0));
    }
}
