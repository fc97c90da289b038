//! What `init` looks at may be anything: no bytes may make a look panic, hang or fill the memory; and what it proposes fits
//! what is there.

use std::fs;
use std::path::Path;

use atlas_core::address::Site;
use atlas_io::examine::{
    KnownPaths, RowSample, article_folders, database_tables, look_at_folder, page_folders, sqlite_files, table_files,
};
use atlas_io::sources::sitemaps::find_old_sitemaps;
use atlas_io::sources::sql::Database;
use proptest::prelude::*;

const ROOT: &str = "https://www.marrowvale.example/";

fn site() -> Site {
    Site::parse(ROOT).unwrap()
}

/// Pieces of what the looks read, so that arbitrary texts come near to being valid.
fn text() -> impl Strategy<Value = Vec<u8>> {
    let pieces = prop_oneof![
        Just(&b"<urlset xmlns=\"http://www.sitemaps.org/schemas/sitemap/0.9\">"[..]),
        Just(&b"<sitemapindex><sitemap><loc>https://www.marrowvale.example/a.xml</loc></sitemap>"[..]),
        Just(&b"<url><loc>https://www.marrowvale.example/x/</loc></url>"[..]),
        Just(&b"---\ntitle: x\nslug: \"y\n---\n"[..]),
        Just(&b"+++\nurl = 1\n"[..]),
        Just(&b"url,slug;\"x\n"[..]),
        Just(&b"[{\"slug\": \"a\"}, {"[..]),
        Just(&b"{\"url\": \"/a/\"}\n"[..]),
        Just(&b"<link rel=canonical href=https://www.marrowvale.example/>"[..]),
        Just(&b"\"NewsArticle\" \"publisher\": {\"name\": \"\\u"[..]),
        Just(&b"SQLite format 3\0"[..]),
        Just(&b"\x1f\x8b\x08"[..]),
        Just(&b"\xff\xfe\x00\n"[..]),
    ];
    let part = prop_oneof![pieces.prop_map(<[u8]>::to_vec), prop::collection::vec(any::<u8>(), 0..40)];
    prop::collection::vec(part, 0..12).prop_map(|parts| parts.concat())
}

fn write(folder: &Path, bytes: &[u8]) {
    let names = [
        "public/index.html",
        "public/news/a.html",
        "public/sitemap.xml",
        "public/sitemap-2.xml.gz",
        "public/sitemap.txt",
        "public/robots.txt",
        "articles/a.md",
        "table.csv",
        "rows.jsonl",
        "list.json",
        "tabs.tsv",
        "shop.db",
    ];
    for name in names {
        let path = folder.join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }
}

proptest! {
    #[test]
    fn anything_may_lie_there(bytes in text()) {
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &bytes);
        let public = folder.path().join("public");
        let facts = look_at_folder(&public, Some(&site()), &["pdf", "txt"]);
        prop_assert_eq!(facts.pages, 2);
        prop_assert_eq!(&page_folders(folder.path())[0].0, "public");
        for table in table_files(folder.path(), std::slice::from_ref(&public)) {
            prop_assert!(table.sample.rows.iter().all(|row| row.len() == table.sample.columns.len()));
            let _ = table.sample.guess(&table.name, &facts.known);
        }
        for folder in article_folders(folder.path(), std::slice::from_ref(&public)) {
            prop_assert!(folder.with_url <= folder.articles);
        }
        for name in sqlite_files(folder.path(), &[]) {
            let _ = database_tables(&Database::Sqlite(folder.path().join(name)));
        }
        let old = find_old_sitemaps(&public, &site(), &bytes, ("sitemap.xml", Path::new("/nowhere")));
        prop_assert!(old.len() < 20);
    }

    /// Whatever the cells are, a proposed template names a column that there is, and every column of use is one of the
    /// table's.
    #[test]
    fn a_guess_names_columns_that_there_are(
        columns in prop::collection::vec("[a-z_]{1,9}|url|slug|updated_at|photo|is_public", 1..6),
        cells in prop::collection::vec(prop::collection::vec("[a-z0-9/.-]{0,12}|/[a-z]{1,4}/|[0-9]{2}/[0-9]{2}/2026|x\\.jpg", 6), 0..20),
        known in prop::collection::vec("/[a-z]{1,4}/[a-z0-9-]{1,6}(/|\\.html)?", 0..10),
    ) {
        let rows = cells.into_iter().map(|row| row[..columns.len()].to_vec()).collect();
        let sample = RowSample { columns: columns.clone(), rows };
        let mut paths = KnownPaths::default();
        known.iter().for_each(|path| paths.add(path));
        if let Some(guess) = sample.guess("main.\"odd name\"", &paths) {
            let named: Vec<&str> = guess.url.split('{').skip(1).filter_map(|rest| rest.split('}').next()).collect();
            let is_column = columns.contains(&guess.url);
            prop_assert!(is_column || named.len() == 1, "{}", guess.url);
            prop_assert!(named.iter().all(|name| columns.iter().any(|column| column == name)), "{}", guess.url);
            prop_assert!(guess.columns.iter().all(|used| columns.contains(used)));
            prop_assert!(guess.fields.iter().all(|field| columns.contains(&field.from)));
            prop_assert!(guess.gates.iter().all(|gate| columns.contains(gate)));
        }
    }

    /// Rows whose pages are known are never served from anywhere else.
    #[test]
    fn known_pages_are_believed(
        slugs in prop::collection::btree_set("[a-z]{2,5}-[a-z]{2,5}", 2..12),
        folder in "/[a-z]{1,6}/",
        end in prop_oneof![Just("/"), Just(".html"), Just("")],
    ) {
        let mut known = KnownPaths::default();
        slugs.iter().for_each(|slug| known.add(&format!("{folder}{slug}{end}")));
        let rows = slugs.iter().map(|slug| vec![slug.clone()]).collect();
        let sample = RowSample { columns: vec!["code".to_owned()], rows };
        let guess = sample.guess("stock", &known).unwrap();
        prop_assert!(guess.is_sure);
        prop_assert_eq!(guess.url, format!("{folder}{{code}}{end}"));
        let address = |slug: &String| ROOT.trim_end_matches('/').to_owned() + &folder + slug;
        prop_assert!(slugs.iter().all(|slug| known.has(&address(slug))));
    }
}
