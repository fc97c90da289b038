//! The command `uptake` over exports of consoles, and the commands that know what engines did.

use rstest::rstest;
use serde_json::{Value, json};

use crate::support::{DAY, NOON, TestSite};

const PAGES: usize = 20;

/// A site whose pages 0 to 9 have few words; built ten days ago.
fn site(more: &str) -> TestSite {
    let mut site = TestSite::new(&format!("{}{more}", crate::support::HTML));
    for nth in 0..PAGES {
        let text = "lamp oil ".repeat(if nth < 10 { 5 } else { 200 });
        site.page(&format!("halts/{nth}/index.html"), &format!("Halt {nth}"), &text);
    }
    site.at(NOON - 10 * DAY);
    site.build();
    site.at(NOON);
    site
}

fn url(nth: usize) -> String {
    format!("https://www.marrowvale.example/halts/{nth}/")
}

/// An export with reasons: pages below `not` are not picked up.
fn export(not: usize) -> String {
    let rows = (0..PAGES).map(|nth| {
        let reason = if nth < not { "\"Fetched, not indexed\"" } else { "Indexed" };
        format!("{},{reason},2026-11-20\n", url(nth))
    });
    format!("URL,State,Last visit\n{}", rows.collect::<String>())
}

fn totals(uptake: &Value) -> [Value; 4] {
    ["submitted", "picked_up", "not_picked_up", "waiting"].map(|name| uptake["totals"][name].clone())
}

#[rstest]
#[case::csv(export(7))]
#[case::semicolons(export(7).replace(", not", "; not").replace(',', ";").replace("\"Fetched; not", "\"Fetched, not"))]
#[case::tabs(export(7).replace(", not", " not").replace(',', "\t"))]
#[case::json_lines(
    export(7).lines().skip(1).map(|line| {
        let mut parts = line.rsplitn(2, ',');
        let (date, rest) = (parts.next().unwrap(), parts.next().unwrap());
        let (url, state) = rest.split_once(',').unwrap();
        json!({ "page": url, "state": state.trim_matches('"'), "seen": date, "score": 3 }).to_string() + "\n"
    }).collect()
)]
#[case::list((7..PAGES).map(|nth| url(nth) + "\n").collect())]
#[case::paths((7..PAGES).map(|nth| format!("/halts/{nth}/\n")).collect())]
fn exports_are_read_in_any_form(#[case] export: String) {
    let site = site("");
    site.write("export", export);
    let uptake = site.json(&["uptake", "export", "--engine", "lamp"]);
    assert_eq!(totals(&uptake), [json!(20), json!(13), json!(7), json!(0)]);
}

#[test]
fn utf_16_is_read() {
    let site = site("");
    let text: Vec<u8> = "\u{feff}"
        .encode_utf16()
        .chain(export(7).replace(", not", " not").replace(',', "\t").encode_utf16())
        .flat_map(u16::to_le_bytes)
        .collect();
    site.write("export.tsv", text);
    let uptake = site.json(&["uptake", "export.tsv"]);
    assert_eq!(totals(&uptake), [json!(20), json!(13), json!(7), json!(0)]);
}

#[test]
fn what_sets_them_apart_is_told() {
    let site = site("");
    site.write("export.csv", export(7));
    site.run(&["uptake", "export.csv", "--engine", "lamp"]).says(
        0,
        &[
            "20 pages submitted: 13 picked up, 7 not",
            "of 7 not picked up, 7 have under 100 words; of 13 picked up, 3",
            "Fetched, not indexed (lamp): 7 URLs",
            "nothing here explains it",
            "Taken to mean picked up: “Indexed” (13)",
            "reason in column 2",
        ],
    );
    let list = site.json(&["uptake", "--list", "--state", "not-picked-up"]);
    assert_eq!(list.as_array().unwrap().len(), 7);
    assert_eq!((&list[0]["reason"], &list[0]["words"]), (&json!("Fetched, not indexed"), &json!(10)));
    site.run(&["uptake", "--list", "--section", "sheds"]).says(2, &["there is no section “sheds”; known: pages"]);
    assert_eq!(
        site.json(&["uptake", "--list", "--section", "pages", "--under", "/halts/1"]).as_array().unwrap().len(),
        11
    );
    site.run(&["uptake", "--list", "--state", "picked-up", "--as", "csv"]).says(0, &["url,section,state", "picked-up"]);
    site.run(&["why", "/halts/3/"]).says(0, &["not picked up: “Fetched, not indexed”"]);
    site.run(&["announce", "--by-hand", "3"]).says(0, &["not picked up, by an engine's own word", &url(0)]);
    let first = site.json(&["survey", "--list", "--sort", "uptake", "--most", "1"]);
    assert_eq!(first[0]["uptake"], "not-picked-up");
}

#[test]
fn what_is_new_may_wait() {
    let mut site = site("");
    site.page("halts/new/index.html", "A new halt", "It opened yesterday.");
    site.at(NOON - DAY);
    site.build();
    site.at(NOON);
    site.write("export.csv", export(7));
    let uptake = site.json(&["uptake", "export.csv"]);
    assert_eq!(totals(&uptake), [json!(21), json!(13), json!(7), json!(1)]);
    site.reconfigure("web_root", "#\nweb_root");
    site.write("idle-atlas.toml", site.read("idle-atlas.toml") + "[history]\npatience_days = 0\n");
    assert_eq!(totals(&site.json(&["uptake"])), [json!(21), json!(13), json!(8), json!(0)]);
}

#[test]
fn reasons_stand_beside_our_own_decisions() {
    let mut site = site("[[rule]]\nmatching = [\"/halts/19/\"]\nkeep = false\n");
    site.page("secret.html", "Secret", "<meta name=robots content=noindex>");
    site.write("public/secret.html", "<title>Secret</title><meta name=robots content=noindex>");
    std::fs::remove_dir_all(site.path("public/halts/18")).unwrap();
    site.build();
    site.at(NOON);
    let rows = ["secret.html", "halts/18/", "halts/19/", "never/", "halts/1/"]
        .map(|path| format!("https://www.marrowvale.example/{path},Excluded\n"));
    site.write("export.csv", format!("URL,Reason\n{}", rows.concat()));
    let uptake = site.json(&["uptake", "export.csv"]);
    let reason = &uptake["reasons"][0];
    let mut codes: Vec<(&str, bool)> = reason["known"]
        .as_array()
        .unwrap()
        .iter()
        .map(|known| (known["code"].as_str().unwrap(), known["on_purpose"].as_bool().unwrap()))
        .collect();
    codes.sort_unstable();
    assert_eq!(codes, [("gone", true), ("noindex", true), ("rule", true), ("unknown", false)]);
    assert_eq!((&reason["urls"], &reason["unexplained"]), (&json!(5), &json!(1)));
    assert_eq!(reason["examples"], json!([url(1)]));
    // What has said noindex since the build explains itself.
    site.write("public/halts/1/index.html", "<title>Halt 1</title><meta name=robots content=noindex>");
    let uptake = site.json(&["uptake"]);
    let known = uptake["reasons"][0]["known"].as_array().unwrap();
    assert!(known.iter().any(|known| known["code"] == "says-noindex" && known["examples"] == json!([url(1)])));
    assert_eq!(uptake["reasons"][0]["unexplained"], 0);
}

#[test]
fn the_next_export_is_compared_with_the_last() {
    let mut site = site("");
    site.write("export.csv", export(4));
    site.at(NOON - 5 * DAY);
    site.json(&["uptake", "export.csv", "--engine", "lamp"]);
    site.at(NOON);
    site.write("export.csv", export(6) + "https://www.marrowvale.example/old/,Indexed,2026-11-20\n");
    site.write("other.csv", export(0));
    let uptake = site.json(&["uptake", "export.csv", "--engine", "lamp"]);
    let since = &uptake["exports"][0]["since_before"];
    assert_eq!((&since["came"], &since["went"]), (&json!(1), &json!(2)));
    assert_eq!(since["went_examples"], json!([url(4), url(5)]));
    assert_eq!(uptake["totals"]["picked_up_not_listed"], 1);
    // What another engine has is picked up.
    let uptake = site.json(&["uptake", "other.csv", "--engine", "wick"]);
    assert_eq!(totals(&uptake), [json!(20), json!(20), json!(0), json!(0)]);
    site.run(&["uptake", "--forget", "wick"]).says(0, &["1 export of wick"]);
    assert_eq!(totals(&site.json(&["uptake"])), [json!(20), json!(14), json!(6), json!(0)]);
    site.run(&["uptake", "--forget", "oil"]).says(2, &["nothing is known of “oil”", "lamp, logs"]);
}

#[test]
fn counts_of_sitemap_files_are_compared_with_what_they_held() {
    let mut site = site("");
    site.at(NOON - 5 * DAY);
    site.page("halts/20/index.html", "Halt 20", "It is new.");
    site.build();
    site.at(NOON);
    let row = |read: &str, found: u64| format!("https://www.marrowvale.example/sitemap.xml,{read},{found}\n");
    site.write("early.csv", format!("Sitemap,Last read,URLs found\n{}", row("2026-11-15", 19)));
    site.write("late.csv", format!("Sitemap,Last read,URLs found\n{}", row("2026-11-22", 21)));
    for (file, held, words) in [("early.csv", 20, "found 19 of the 20 in it then"), ("late.csv", 21, "found all 21")] {
        let uptake = site.json(&["uptake", file, "--engine", "lamp"]);
        assert_eq!(uptake["sitemap_files"][0]["consoles"][0]["held"], held);
        site.run(&["uptake"]).says(0, &[words]);
    }
}

#[test]
fn pages_are_counted_by_the_file_through_which_they_are_known() {
    let site = site("");
    let rows = (0..5).map(|nth| {
        let state = if nth < 2 { "Indexed" } else { "Not indexed" };
        format!("{},{state},https://www.marrowvale.example/sitemap.xml\n", url(nth))
    });
    site.write("export.csv", format!("URL,State,Via\n{}", rows.collect::<String>()));
    let uptake = site.json(&["uptake", "export.csv"]);
    let count = &uptake["sitemap_files"][0]["consoles"][0];
    assert_eq!((&count["found"], &count["in_index"], &count["held"]), (&json!(5), &json!(2), &json!(20)));
}

#[test]
fn words_of_consoles_do_no_harm() {
    let site = site("");
    let row = format!("{},\"Not \u{1b}[31m<script>taken\"\n", url(1));
    site.write("export.csv", format!("URL,State,\u{1b}[2JScore\n{row}{}", row.replace("halts/1/", "halts/2/")));
    let ran = site.run(&["uptake", "export.csv"]);
    ran.says(0, &["<script>taken"]);
    assert!(!ran.out.contains('\u{1b}') && !ran.errors.contains('\u{1b}'), "{ran:?}");
    site.run(&["report", "report.html"]).says(0, &["written"]);
    let page = site.read("report.html");
    assert!(!page.contains('\u{1b}') && !page.contains("<script>"));
}

#[test]
fn numbers_of_searches_are_kept_by_day() {
    let site = site("");
    let rows = |shown: usize| {
        let rows = (0..15).map(|nth| format!("{},{nth},\"{}\",{}\n", url(nth), shown + nth, nth + 1));
        format!("Page,Clicks,Impressions,Position\n{}", rows.collect::<String>())
    };
    site.write("first.csv", rows(1_100));
    site.write("second.csv", rows(1_200));
    site.json(&["uptake", "first.csv", "--on", "2026-11-20"]);
    let uptake = site.json(&["uptake", "second.csv"]);
    let searches = &uptake["searches"][0];
    assert_eq!((&searches["never_shown"], &searches["clicked"]), (&json!(5), &json!(105)));
    let shown = |nth: usize| searches["moved"][0]["shown"][nth].as_u64().unwrap();
    assert_eq!(shown(1) - shown(0), 100);
    assert_eq!(searches["days"], json!(["2026-11-20", "2026-11-23"]));
    // Another part of the same day adds to it.
    site.write("third.csv", format!("Page,Clicks,Impressions,Position\n{},1,9,3\n", url(19)));
    assert_eq!(site.json(&["uptake", "third.csv"])["searches"][0]["never_shown"], 4);
    // What is shown is picked up; of the others, nothing is known.
    assert_eq!(uptake["totals"]["picked_up"], 15);
    assert_eq!(uptake["totals"]["not_picked_up"], 0);
}

#[test]
fn pictures_are_counted_apart() {
    let site = site("");
    site.write("public/shed.html", "<title>Shed</title><main><img src=/a.jpg alt=a><img src=/b.jpg alt=b></main>");
    site.build();
    site.write("images.csv", "Image\nhttps://www.marrowvale.example/a.jpg\n");
    let uptake = site.json(&["uptake", "images.csv", "--of", "images"]);
    assert_eq!((&uptake["images"]["submitted"], &uptake["images"]["picked_up"]), (&json!(2), &json!(1)));
    assert_eq!(uptake["totals"]["picked_up"], Value::Null);
    // By the page that shows them.
    site.write("pages.csv", "Page\nhttps://www.marrowvale.example/shed.html\n");
    let uptake = site.json(&["uptake", "pages.csv", "--of", "images"]);
    assert_eq!(uptake["images"]["picked_up"], 2);
    assert_eq!(uptake["sections"][0]["images"]["picked_up"], 2);
}

#[test]
fn pictures_are_shown_by_section_on_request() {
    let site = site("[[section]]\nname = \"halts\"\nmatching = [\"/halts/**\"]\n");
    site.write("public/shed.html", "<title>Shed</title><main><img src=/a.jpg alt=a>");
    site.build();
    site.write("images.csv", "Image\nhttps://www.marrowvale.example/a.jpg\n");
    site.run(&["uptake", "images.csv", "--of", "images", "--verbose"]).says(0, &["By section", "Pictures by section"]);
}

#[test]
fn the_configuration_tells_what_columns_do_not() {
    let more = "[[uptake]]\nengine = \"lamp\"\nfiles = \"lamp-*.csv\"\ncolumns = { reason = \"Glow\" }\npicked_up = [\"lit\"]\ndates = \"%d/%m/%Y\"\n";
    let site = site(more);
    let rows = (0..PAGES)
        .map(|nth| format!("{},{},03/11/2026,\"text {nth}\"\n", url(nth), if nth < 7 { "dark" } else { "lit" }));
    site.write("lamp-1.csv", format!("Where,Glow,When,Title\n{}", rows.collect::<String>()));
    let uptake = site.json(&["uptake", "lamp-1.csv"]);
    assert_eq!(totals(&uptake), [json!(20), json!(13), json!(7), json!(0)]);
    assert_eq!(uptake["exports"][0]["engine"], "lamp");
    site.reconfigure("Glow", "Shine");
    site.run(&["uptake", "lamp-1.csv"]).says(2, &["there is no column “Shine”", "Where, Glow, When, Title"]);
    site.reconfigure("reason =", "cause =");
    site.run(&["uptake"]).says(2, &["line", "there is no column “cause”", "reason"]);
}

#[rstest]
#[case::no_urls("Name,Age\nAda,36\n", &["no column holds URLs", "--log-format"])]
#[case::another_site("URL\nhttps://shop.example/a\nhttps://shop.example/b\n", &["none of its URLs is on www.marrowvale.example", "shop.example (2 rows)"])]
#[case::two_orders("URL,Date\nhttps://www.marrowvale.example/halts/1/,03/04/2026\n", &["row 2", "“03/04/2026” can be read in two ways", "--dates '%d/%m/%Y'"])]
#[case::no_date("URL,Date\nhttps://www.marrowvale.example/halts/1/,31/12/2026\n", &["“31/12/2026” is not a date", "--dates"])]
#[case::empty("", &["no column holds URLs"])]
fn bad_exports_change_nothing(#[case] text: &str, #[case] words: &[&str]) {
    let site = site("");
    site.write("export.csv", text);
    site.run(&["uptake", "export.csv"]).says(2, &[words, &["export.csv", "none of the files could be used"]].concat());
    assert_eq!(site.json(&["uptake"])["exports"], json!([]));
    // What is good goes on.
    site.write("good.csv", export(7));
    site.run(&["uptake", "export.csv", "missing.csv", "good.csv"]).says(1, &["13 picked up", "missing.csv"]);
}

#[test]
fn a_quote_that_is_never_closed_does_not_fill_the_memory() {
    let site = site("");
    let rest = format!("{},Indexed\n", url(2)).repeat(400_000);
    site.write("export.csv", format!("URL,State\n{},Indexed\n\"{rest}", url(1)));
    let why = "read in part: export.csv: an item is longer than 16777216 bytes; is there an unclosed quote?";
    site.run(&["uptake", "export.csv"]).says(1, &[why, "1 row before that counts", "1 picked up, 0 not"]);
}

#[test]
fn one_order_of_dates_is_taken_when_it_is_said() {
    let site = site("");
    site.write("export.csv", format!("URL,Date\n{},03/04/2026\n", url(1)));
    site.run(&["uptake", "export.csv", "--dates", "%d/%m/%Y"]).says(0, &["1 picked up"]);
    site.run(&["uptake", "export.csv", "--dates", "%Y"]).says(2, &["is not a date in the format “%Y”"]);
    site.run(&["uptake", "export.csv", "--on", "2027-01-01"]).says(2, &["--on", "still to come"]);
}

#[test]
fn urls_of_one_reason_can_be_given_as_a_list() {
    let site = site("");
    site.write("not.txt", (0..7).map(|nth| url(nth) + "\n").collect::<String>());
    let uptake = site.json(&["uptake", "not.txt", "--not-taken", "Fetched, not indexed"]);
    // Of the others, nothing is known.
    assert_eq!((&uptake["totals"]["not_picked_up"], &uptake["totals"]["picked_up"]), (&json!(7), &Value::Null));
    site.run(&["uptake"]).says(0, &["20 pages submitted: 7 not picked up; of the others, no export tells"]);
    assert_eq!(uptake["reasons"][0]["reason"], "Fetched, not indexed");
}

#[test]
fn exports_that_are_given_one_after_the_other_add_up() {
    let list = |range: std::ops::Range<usize>| range.map(|nth| url(nth) + "\n").collect::<String>();
    let not = ["uptake", "not.txt", "--not-taken", "Fetched, not indexed"];
    for orders in [[&not[..], &["uptake", "yes.txt"]], [&["uptake", "yes.txt"], &not[..]]] {
        let site = site("");
        site.write("yes.txt", list(7..PAGES));
        site.write("not.txt", list(0..5));
        orders.iter().for_each(|order| drop(site.json(order)));
        let uptake = site.json(&["uptake"]);
        assert_eq!(totals(&uptake), [json!(20), json!(13), json!(7), json!(0)]);
        assert_eq!((&uptake["reasons"][0]["urls"], &uptake["reasons"][0]["unexplained"]), (&json!(5), &json!(5)));
    }
}

#[test]
fn an_export_that_ends_at_a_round_number_may_be_cut() {
    let site = site("");
    site.write("export.csv", url(1) + "\n" + &"https://www.marrowvale.example/x/\n".repeat(999));
    site.run(&["uptake", "export.csv"]).says(0, &["perhaps cut", "1,000 rows"]);
    site.run(&["uptake", "export.csv", "--strict"]).says(1, &["perhaps cut"]);
}

#[test]
fn nothing_can_be_laid_over_nothing() {
    let site = TestSite::new(crate::support::HTML);
    site.write("export.csv", export(1));
    site.run(&["uptake", "export.csv"]).says(2, &["nothing has been built yet"]);
    site.run(&["uptake"]).says(2, &["nothing has been built yet"]);
    site.run(&["report"]).says(2, &["nothing has been built yet"]);
}
