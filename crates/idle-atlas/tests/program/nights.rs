//! Ten nights of changes over 100,000 rows on real servers: the test's own SQL says what must be listed and told.

use std::collections::{BTreeMap, BTreeSet};

use rstest::rstest;

use crate::databases::{MARIADB, POSTGRES, ask, run};
use crate::support::{ROOT, TestSite, count};

/// What must be listed of one URL.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Wanted {
    modified: String,
    section: String,
    images: BTreeSet<String>,
    title: String,
    language: String,
    group: String,
    category: String,
}

/// The words in which the servers differ.
struct Dialect {
    series: fn(u32, u32) -> String,
    join: fn(&str) -> String,
    list: fn(&str) -> String,
}

fn dialect(server: &str) -> Dialect {
    if server == MARIADB {
        Dialect {
            series: |first, last| format!("(select seq as n from seq_{first}_to_{last}) as numbers"),
            join: |parts| format!("concat({parts})"),
            list: |order| format!("group_concat(path {order} separator '|')"),
        }
    } else {
        Dialect {
            series: |first, last| format!("generate_series({first}, {last}) as numbers (n)"),
            join: |parts| format!("concat({parts})"),
            list: |order| format!("string_agg(path, '|' {order})"),
        }
    }
}

/// The day of a night, counted from 0: a night's edits are dated by it.
fn day(night: u32) -> String {
    format!("date '2026-02-{:02}'", night + 1)
}

fn fill(dialect: &Dialect, first: u32, last: u32, night: u32) -> Vec<String> {
    let Dialect { series, join, .. } = dialect;
    let (numbers, day) = (series(first, last), day(night));
    vec![
        format!(
            "insert into articles select n, {}, {day}, mod(n, 7), case mod(n, 2) when 0 then 'en' else 'cy' end, floor(n / 2), {}, 0 from {numbers}",
            join("'art ', n"),
            join("'Article ', n")
        ),
        format!("insert into photos select n, {} from {numbers} where mod(n, 3) > 0", join("'/photos/', n, '-b.jpg'")),
        format!("insert into photos select n, {} from {numbers} where mod(n, 3) > 1", join("'/photos/', n, '-a.jpg'")),
    ]
}

/// The changes of a night: each a share of the rows, by a number that the night and the row make together.
fn changes(dialect: &Dialect, night: u32) -> Vec<String> {
    let Dialect { join, .. } = dialect;
    let chosen = |id: &str, from: u32, count: u32| {
        format!("mod({id} * 7919 + {}, 2000) between {from} and {}", night * 104_729 % 2000, from + count - 1)
    };
    let mut all = vec![
        format!(
            "update articles set title = {}, updated = {} where {}",
            join("title, '!'"),
            day(night),
            chosen("id", 0, 8)
        ),
        format!("update articles set title = {} where {}", join("title, '?'"), chosen("id", 100, 2)),
        format!("update articles set category = mod(category + 1, 7) where {}", chosen("id", 200, 2)),
        format!("update articles set grp = grp + 10000000 where {}", chosen("id", 300, 2)),
        format!("update articles set hidden = 1 where {}", chosen("id", 400, 1)),
        format!("delete from articles where {}", chosen("id", 500, 1)),
        format!("delete from photos where {}", chosen("article", 600, 2)),
        format!(
            "insert into photos select id, {} from articles where {}",
            join(&format!("'/photos/', id, '-n{night}.jpg'")),
            chosen("id", 700, 2)
        ),
        format!("update halts set updated = {} where {}", day(night), chosen("id", 0, 40)),
    ];
    all.extend(fill(dialect, 200_000 + night * 1_000, 200_000 + night * 1_000 + 80, night));
    all
}

/// What the database says must be listed.
fn wanted(server: &str, dialect: &Dialect) -> BTreeMap<String, Wanted> {
    let Dialect { join, list, .. } = dialect;
    let images = format!("coalesce((select {} from photos p where p.article = a.id), '')", list("order by path"));
    let articles = format!(
        "select {} from articles a where hidden = 0",
        join(&format!("lang, '#', slug, '#', updated, '#', category, '#', {images}, '#', title, '#', grp"))
    );
    let halts = format!("select {} from halts", join("'halts#', slug, '#', updated"));
    let mut wanted = BTreeMap::new();
    let mut newest: BTreeMap<String, String> = BTreeMap::new();
    for line in ask(server, &articles).lines() {
        let [lang, slug, updated, category, images, title, group] = line.split('#').collect::<Vec<_>>()[..] else {
            panic!("{line}")
        };
        let category = format!("kind-{category}");
        let date = newest.entry(category.clone()).or_default();
        *date = (*date).clone().max(updated.to_owned());
        wanted.insert(
            format!("{lang}/{}/", slug.replace(' ', "%20")),
            Wanted {
                modified: updated.to_owned(),
                section: if lang == "en" { category.clone() } else { "welsh".to_owned() },
                images: images
                    .split('|')
                    .filter(|image| !image.is_empty())
                    .map(|image| image[1..].to_owned())
                    .collect(),
                title: title.to_owned(),
                language: lang.to_owned(),
                group: group.to_owned(),
                category,
            },
        );
    }
    let plain = |modified: &str| Wanted {
        modified: modified.to_owned(),
        section: "pages".to_owned(),
        images: BTreeSet::new(),
        title: String::new(),
        language: String::new(),
        group: String::new(),
        category: String::new(),
    };
    for line in ask(server, &halts).lines() {
        let [_, slug, updated] = line.split('#').collect::<Vec<_>>()[..] else { panic!("{line}") };
        wanted.insert(format!("halts/{slug}/"), plain(updated));
    }
    wanted.extend(newest.into_iter().map(|(category, date)| (format!("about/{category}/"), plain(&date))));
    wanted
}

/// The translations of each entry: pairs of language and URL, if its group has several languages.
fn translations(wanted: &BTreeMap<String, Wanted>) -> BTreeMap<&str, BTreeSet<(String, String)>> {
    let mut groups: BTreeMap<&str, BTreeSet<(String, String)>> = BTreeMap::new();
    for (url, one) in wanted.iter().filter(|(_, one)| !one.group.is_empty()) {
        groups.entry(&one.group).or_default().insert((one.language.clone(), url.clone()));
    }
    groups.retain(|_, pages| pages.len() > 1);
    groups
}

fn config(dialect: &Dialect) -> String {
    let Dialect { join, list, .. } = dialect;
    let articles = |lang: &str, section: &str| {
        format!(
            "[[source]]\nfrom = \"sql\"\nname = \"{lang}\"\nconnection = \"${{DEPOT}}\"\nsection = \"{section}\"\nquery = \"\"\"select slug, updated as modified, {} as category, lang as language, grp as language_group, title, (select {} from photos p where p.article = a.id) as images from articles a where lang = '{lang}' and hidden = 0\"\"\"\nfields = {{ url = \"/{lang}/{{slug}}/\" }}\n",
            join("'Kind ', category"),
            list("")
        )
    };
    let engine = "[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"indexnow\"\nendpoint = \"http://127.0.0.1:9/indexnow\"\n";
    let archive = "[[archive]]\nby = \"category\"\nurl = \"/about/{slug}/\"\n";
    let halts = "[[source]]\nfrom = \"sql\"\nname = \"halts\"\nconnection = \"${DEPOT}\"\nquery = \"select slug, updated as modified from halts\"\nfields = { url = \"/halts/{slug}/\" }\n";
    format!("{engine}{archive}{}{}{halts}", articles("en", "{category}"), articles("cy", "welsh"))
}

/// What is listed: the same facts, read from the files.
fn check(site: &TestSite, wanted: &BTreeMap<String, Wanted>) {
    let groups = translations(wanted);
    let mut seen = BTreeSet::new();
    for (file, urls) in site.listed() {
        for url in urls {
            let loc = url.loc.unwrap();
            let path = loc.strip_prefix(ROOT).unwrap();
            let Some(one) = wanted.get(path) else { panic!("{path} should not be listed") };
            assert!(seen.insert(path.to_owned()), "{path} is listed twice");
            assert_eq!(url.lastmod.as_deref(), Some(one.modified.as_str()), "{path}");
            assert!(file.starts_with(&format!("atlas-{}-", one.section)), "{path} of {} is in {file}", one.section);
            let images: BTreeSet<String> =
                url.images.iter().map(|image| image.strip_prefix(ROOT).unwrap().to_owned()).collect();
            assert_eq!(images, one.images, "{path}");
            let alternates: BTreeSet<(String, String)> = url
                .alternates
                .iter()
                .map(|one| (one.language.to_string(), one.url.strip_prefix(ROOT).unwrap().to_owned()))
                .collect();
            assert_eq!(Some(&alternates).filter(|all| !all.is_empty()), groups.get(one.group.as_str()), "{path}");
        }
    }
    let missing: Vec<&String> = wanted.keys().filter(|path| !seen.contains(*path)).take(5).collect();
    assert!(missing.is_empty(), "not listed: {missing:?}");
}

/// Whether engines are told of the change from one to the other: a page says something else, or is dated otherwise.
fn is_told(before: &Wanted, now: &Wanted) -> bool {
    let says = |one: &Wanted| (one.modified.clone(), one.images.clone(), one.title.clone(), one.language.clone());
    says(before) != says(now)
}

#[rstest]
#[case::postgres(POSTGRES)]
#[case::mariadb(MARIADB)]
#[ignore = "needs PostgreSQL and MariaDB servers"]
fn ten_nights_leave_what_the_database_says(#[case] server: &str) {
    let dialect = dialect(server);
    let run_all = |statements: Vec<String>| _ = ask(server, &statements.join("; "));
    let mut tables = vec![
        "drop table if exists articles".to_owned(),
        "drop table if exists photos".to_owned(),
        "drop table if exists halts".to_owned(),
        "create table articles (id int primary key, slug varchar(60), updated date, category int, lang char(2), grp int, title varchar(90), hidden int)".to_owned(),
        "create table photos (article int, path varchar(60))".to_owned(),
        "create table halts (id int primary key, slug varchar(60), updated date)".to_owned(),
    ];
    tables.extend(fill(&dialect, 1, 90_000, 0));
    let halts = (dialect.series)(1, 10_000);
    tables.push(format!("insert into halts select n, {}, {} from {halts}", (dialect.join)("'halt-', n"), day(0)));
    tables.push("create index photos_of on photos (article)".to_owned());
    run_all(tables);
    let site = TestSite::new(&config(&dialect));
    let mut before = wanted(server, &dialect);
    let build = || {
        let ran = run(&site, server, &["build", "--json"]);
        assert_eq!(ran.code, 0, "{ran:?}");
        serde_json::from_str::<serde_json::Value>(&ran.out).unwrap()
    };
    build();
    check(&site, &before);
    let (mut to_tell, mut brief) = (BTreeSet::new(), BTreeSet::new());
    let mut came = BTreeSet::new();
    for night in 1..=10 {
        run_all(changes(&dialect, night));
        let now = wanted(server, &dialect);
        let report = build();
        check(&site, &now);
        let added: Vec<&String> = now.keys().filter(|path| !before.contains_key(*path)).collect();
        let removed: Vec<&String> = before.keys().filter(|path| !now.contains_key(*path)).collect();
        let changed: Vec<&String> = now
            .iter()
            .filter(|(path, one)| before.get(*path).is_some_and(|known| is_told(known, one)))
            .map(|(path, _)| path)
            .collect();
        let counts = ["added", "changed", "removed"].map(|kind| count(&report, kind) as usize);
        assert_eq!(counts, [added.len(), changed.len(), removed.len()], "night {night}");
        assert!(counts.iter().all(|count| *count > 0), "each night has some of everything: {counts:?}");
        brief.extend(removed.iter().filter(|path| came.contains(**path)).map(|path| (*path).clone()));
        came.extend(added.iter().map(|path| (*path).clone()));
        to_tell.extend([added, changed, removed].concat().into_iter().cloned());
        before = now;
        // Nothing more is to be done, whatever order the rows come in now.
        let again = build();
        assert_eq!((count(&again, "changed"), &again["written"]), (0, &serde_json::json!([])), "night {night}");
    }
    let plan = run(&site, server, &["announce", "--dry-run", "--json"]);
    let plan: serde_json::Value = serde_json::from_str(&plan.out).unwrap_or_else(|_| panic!("{plan:?}"));
    let told = plan[0]["tell"].as_array().unwrap_or_else(|| panic!("{plan}"));
    let told: BTreeSet<String> =
        told.iter().map(|one| one["url"].as_str().unwrap().strip_prefix(ROOT).unwrap().to_owned()).collect();
    // What came and left between two announcements is nobody's news.
    let wanted: BTreeSet<String> = to_tell.difference(&brief).cloned().collect();
    let differing: Vec<&String> = told.symmetric_difference(&wanted).filter(|path| !brief.contains(*path)).collect();
    assert!(
        differing.is_empty(),
        "{} of {}: {:?}",
        differing.len(),
        wanted.len(),
        &differing[..differing.len().min(5)]
    );
}
