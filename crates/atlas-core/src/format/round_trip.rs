//! Tests of writing and reading together: what is written can be read back, and any bytes can be read.

use std::borrow::Cow;

use proptest::prelude::*;

use super::{Document, Frame, IndexLine, RawUrl, ReadError, UrlsetWriter, clean, index, read};
use crate::entry::{Changefreq, Entry, NewsArticle, Priority};
use crate::language::Alternate;
use crate::lastmod::Lastmod;
use crate::placement::Limits;
use crate::video::Video;

fn urls(bytes: &[u8]) -> Result<Vec<RawUrl<'_>>, ReadError> {
    let mut urls = Vec::new();
    read(bytes, |url| urls.push(url), |_| ()).map(|_| urls)
}

fn address() -> impl Strategy<Value = String> {
    "[a-z0-9/?&=%'.~-]{0,40}".prop_map(|rest| {
        crate::address::Address::parse(&format!("https://www.marrowvale.example/{rest}")).unwrap().as_str().to_owned()
    })
}

fn text() -> impl Strategy<Value = Option<String>> {
    proptest::option::of("\\PC{0,30}[<>&'\"\u{0}\u{1f}\u{fffe}\r\n\t]?.{0,30}")
        .prop_map(|text| text.map(|text| clean(&text).into_owned()).filter(|text| !text.is_empty()))
}

prop_compose! {
    fn video()(
        thumbnail_loc in proptest::option::of(address()), title in text(), description in text(),
        content_loc in proptest::option::of(address()), player_loc in proptest::option::of(address()),
        duration in proptest::option::of(1u32..=28_800), publication_date in Just(Some("2026-01-05".to_owned())),
    ) -> Video {
        Video { thumbnail_loc, title, description, content_loc, player_loc, duration, publication_date, ..Video::default() }
    }
}

prop_compose! {
    fn entry()(
        address in address(), seconds in proptest::option::of((0i64..4_000_000_000, -720i16..840)),
        changefreq in proptest::option::of(0usize..7), priority in proptest::option::of(0u8..=100),
        images in proptest::collection::vec(address(), 0..3), videos in proptest::collection::vec(video(), 0..3),
        news in proptest::option::of((text(), text())), others in proptest::collection::vec(address(), 0..3),
    ) -> Entry<'static> {
        Entry {
            address: address.into(),
            lastmod: seconds.map(|(seconds, offset)| Lastmod::Instant { seconds, offset }),
            changefreq: changefreq.map(|at| Changefreq::ALL[at]),
            priority: priority.and_then(Priority::from_hundredths),
            images: images.into_iter().map(Cow::Owned).collect(),
            videos,
            news: news.and_then(|(publication, title)| Some(NewsArticle {
                publication: publication?.trim().to_owned().into(),
                language: "cy".into(),
                published: Lastmod::Instant { seconds: 1_795_392_000, offset: 60 },
                title: title?.trim().to_owned().into(),
            })).filter(|news| !news.publication.is_empty() && !news.title.is_empty()),
            alternates: others
                .into_iter()
                .map(|url| Alternate { language: "zh-Hant-TW".into(), url: url.into() })
                .collect(),
        }
    }
}

proptest! {
    #[test]
    fn what_is_written_is_read_back(entries in proptest::collection::vec(entry(), 0..5)) {
        let mut writer = UrlsetWriter::new(Limits::PROTOCOL);
        entries.iter().for_each(|entry| writer.push(entry).unwrap());
        let file = writer.finish(Some("atlas.css"));
        let back: Vec<Entry<'_>> = urls(&file).unwrap().into_iter().filter_map(RawUrl::into_entry).collect();
        prop_assert_eq!(back, entries);
    }

    #[test]
    fn any_text_yields_well_formed_xml(title in ".{0,60}", description in any::<String>(), url in any::<String>()) {
        let video = Video { title: Some(title), description: Some(description), ..Video::default() };
        let site = crate::address::Site::parse("https://www.marrowvale.example/").unwrap();
        let Ok(address) = site.address(&url) else { return Ok(()) };
        let mut writer = UrlsetWriter::new(Limits::PROTOCOL);
        writer.push(&Entry { videos: vec![video], ..Entry::new(address.clone()) }).unwrap();
        let file = writer.finish(None);
        let back = urls(&file).unwrap();
        prop_assert_eq!(back[0].loc.as_deref(), Some(address.as_str()));
    }

    #[test]
    fn any_bytes_can_be_read(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
        let _ = urls(&bytes);
        let _ = urls(&[Frame::default().open(None), bytes].concat());
    }

    #[test]
    fn an_index_is_read_back(names in proptest::collection::vec("[a-z&'<-]{1,9}", 0..5)) {
        let lastmod = Lastmod::Instant { seconds: 1_780_000_000, offset: 0 };
        let lines: Vec<IndexLine> = names.into_iter().map(|address| IndexLine { address, lastmod }).collect();
        let mut back = Vec::new();
        let file = index(&lines, Some("atlas.css"));
        let kind = read(&file, |_| (), |sitemap| back.push(sitemap)).unwrap();
        prop_assert_eq!(kind, Document::Index);
        prop_assert_eq!(back.iter().map(|one| one.loc.clone().unwrap()).collect::<Vec<_>>(),
            lines.iter().map(|line| line.address.clone()).collect::<Vec<_>>());
    }
}
