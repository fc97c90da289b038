//! The protocols besides IndexNow, against the test engine: pings, hubs and calls by template.

use atlas_io::test_engine::{Mood, TestEngine, TestEngineSettings};
use rstest::rstest;
use serde_json::Value;

use crate::support::{HTML, TestSite};

const MAIN: &str = "https://www.marrowvale.example/sitemap.xml";

/// A built site with two pages, and an engine that is told as this table says; `{endpoint}` stands for the engine's
/// address.
struct Told {
    site: TestSite,
    engine: TestEngine,
}

impl Told {
    fn new(via: &str, address: fn(&TestEngine) -> String, more: &str) -> Self {
        let settings = TestEngineSettings::fair();
        let engine = TestEngine::start(settings).unwrap();
        let site = TestSite::new(HTML);
        site.page("a.html", "A", "Text");
        site.page("b.html", "B", "Text");
        site.configure(&format!(
            "{HTML}\n[newest]\n[[engine]]\nwait_until_live = false\nname = \"test\"\nvia = \"{via}\"\nendpoint = \"{}\"\nwait_seconds = 2\n{more}\n",
            address(&engine)
        ));
        site.build();
        Self { site, engine }
    }

    fn edit(&self, text: &str) {
        self.site.page("a.html", "A", text);
        self.site.build();
    }

    /// What the engine has received since the last call of this function.
    fn received(&self, before: &mut usize) -> Vec<Vec<String>> {
        let all = self.engine.received();
        let new = all[*before..].iter().map(|one| one.urls.clone()).collect();
        *before = all.len();
        new
    }
}

/// The address of the main file is told at once, though the first build is a baseline, and again when a file changes.
#[test]
fn a_ping_names_the_main_file() {
    let told = Told::new("sitemap-ping", TestEngine::ping, "");
    let mut before = 0;
    told.site.run(&["announce", "--dry-run"]).says(0, &["would be told of 1 file", MAIN]);
    told.site.run(&["announce"]).says(0, &["1 file to announce (1 added)", "200", MAIN]);
    assert_eq!(told.received(&mut before), [[MAIN]]);
    told.site.run(&["announce"]).says(0, &["nothing to announce"]);
    told.edit("Other text");
    told.site.run(&["announce"]).says(0, &["1 file to announce (1 changed)"]);
    assert_eq!(told.received(&mut before), [[MAIN]]);
}

/// An engine that has given up pings says so once; then it rests, and nothing is kept for it. Another endpoint is asked.
#[rstest]
#[case(404)]
#[case(410)]
fn a_ping_that_is_given_up_rests(#[case] status: u16) {
    let told = Told::new("sitemap-ping", TestEngine::ping, "");
    told.engine.set_mood(Mood::Status(status));
    told.site.run(&["announce"]).says(0, &["has given up being told in this way", &format!("It answers {status}.")]);
    told.edit("Other text");
    told.site.run(&["announce"]).says(0, &["test: has given up being told in this way", "Its [[engine]] table can go"]);
    told.site.run(&["announce", "--dry-run"]).says(0, &["test: has given up being told in this way"]);
    assert_eq!(told.engine.received().len(), 1);
    told.engine.set_mood(Mood::Fair);
    told.site.reconfigure("/ping\"", "/ping?again\"");
    told.site.run(&["announce"]).says(0, &["200", MAIN]);
}

#[test]
fn a_hub_is_told_of_a_feed_that_changed() {
    let told = Told::new("websub", TestEngine::hub, "");
    let (feed, mut before) = ("https://www.marrowvale.example/atlas-newest.xml", 0);
    let written = told.site.read("public/atlas-newest.xml");
    assert!(written.contains(&format!("<link rel=\"hub\" href=\"{}\"/>", told.engine.hub())), "{written}");
    assert!(written.contains(&format!("<link rel=\"self\" href=\"{feed}\"/>")), "{written}");
    told.site.run(&["announce"]).says(0, &["204", feed]);
    assert_eq!(told.received(&mut before), [[feed]]);
    told.site.build();
    told.site.run(&["announce"]).says(0, &["nothing to announce"]);
    told.edit("Other text");
    told.engine.set_mood(Mood::Status(500));
    told.site.run(&["announce"]).says(1, &["500", "kept"]);
    told.engine.set_mood(Mood::Fair);
    told.site.run(&["announce", "--engine", "test"]).says(0, &["1 accepted"]);
    told.site.run(&["announce"]).says(0, &["nothing to announce"]);
}

#[test]
fn a_call_for_each_url() {
    let template = "headers = { Authorization = \"Bearer {token}\" }\n\
                    body = '{\"url\": \"{url}\", \"type\": \"{change}\"}'\n\
                    changes = { added = \"URL_UPDATED\", changed = \"URL_UPDATED\", removed = \"URL_DELETED\" }\n\
                    token_command = [\"echo\", \"lamp-oil\"]";
    let told = Told::new("http-call", TestEngine::call, template);
    let mut before = 0;
    told.site
        .run(&["announce"])
        .says(0, &["nothing to announce; 2 URLs are the baseline", "idle-atlas announce --all"]);
    std::fs::remove_file(told.site.path("public/b.html")).unwrap();
    told.edit("Other text");
    told.site.run(&["announce"]).says(0, &["2 URLs to announce (1 changed, 1 removed); 2 accepted"]);
    let mut bodies: Vec<Value> = Vec::new();
    for call in told.received(&mut before) {
        assert_eq!(call[..2], ["POST /call", "Bearer lamp-oil"]);
        bodies.push(serde_json::from_str(&call[2]).unwrap());
    }
    bodies.sort_by_key(|body| body["url"].to_string());
    let site = "https://www.marrowvale.example";
    assert_eq!(bodies[0], serde_json::json!({ "url": format!("{site}/a.html"), "type": "URL_UPDATED" }));
    assert_eq!(bodies[1], serde_json::json!({ "url": format!("{site}/b.html"), "type": "URL_DELETED" }));
}

#[rstest]
#[case::batch("each = \"batch\"\nbody = '{\"urls\": {urls}}'\nmost_urls = 2",
    &["POST /call {\"urls\": [\"…/a.html\",\"…/b.html\"]}", "POST /call {\"urls\": [\"…/c.html\"]}"])]
#[case::build("each = \"build\"\nmethod = \"PUT\"\nbody = \"{main}\"", &["PUT /call …/sitemap.xml"])]
#[case::file("each = \"file\"", &["GET /call?file=https%3A%2F%2Fwww.marrowvale.example%2Fsitemap.xml "])]
fn calls_for_several_at_once(#[case] more: &str, #[case] wanted: &[&str]) {
    let address: fn(&TestEngine) -> String =
        if more.contains("\"file\"") { |engine| engine.call() + "?file={url}" } else { TestEngine::call };
    let told = Told::new("http-call", address, more);
    told.site.page("c.html", "C", "Text");
    told.site.build();
    let mut before = 0;
    told.site.run(&["announce", "--all"]).says(0, &["accepted"]);
    let short = |call: &Vec<String>| format!("{} {}", call[0], call[2]).replace("https://www.marrowvale.example", "…");
    let calls: Vec<String> = told.received(&mut before).iter().map(short).collect();
    let sorted = |calls: Vec<String>| {
        let mut letters: Vec<char> = calls.concat().chars().collect();
        letters.sort_unstable();
        (calls.len(), letters)
    };
    // Which URLs are in which batch depends on their keys.
    assert_eq!(sorted(calls.clone()), sorted(wanted.iter().map(|call| (*call).to_owned()).collect()), "{calls:?}");
}

#[test]
fn a_token_that_cannot_be_made_keeps_what_is_to_be_announced() {
    let template = "headers = { Authorization = \"Bearer {token}\" }\nbody = \"{url}\"\n\
                    token_command = [\"sh\", \"-c\", \"echo no lamp >&2; exit 3\"]";
    let told = Told::new("http-call", TestEngine::call, template);
    told.edit("Other text");
    told.site.run(&["announce"]).says(1, &["token_command: it ended with exit status: 3", "no lamp", "1 kept"]);
    assert!(told.engine.received().is_empty());
}

#[test]
fn an_unexpected_status_waits_to_be_mended() {
    let told = Told::new("http-call", TestEngine::call, "body = \"{url}\"\nexpect = [202]");
    told.edit("Other text");
    told.site.run(&["announce"]).says(1, &["a status that is not expected: check “expect”", "1 kept"]);
    told.site.reconfigure("[202]", "[200]");
    told.site.run(&["announce"]).says(0, &["1 accepted"]);
}

#[test]
fn an_engine_is_switched_off_by_one_word() {
    let told = Told::new("sitemap-ping", TestEngine::ping, "on = false");
    told.site.run(&["announce"]).says(0, &["test: switched off (on = false)"]);
    told.site.run(&["announce", "--dry-run"]).says(0, &["test: switched off (on = false)"]);
    assert!(told.engine.received().is_empty());
}

#[rstest]
#[case::no_endpoint("via = \"sitemap-ping\"", "the engine “test” has no “endpoint”")]
#[case::unknown(
    "via = \"telegraph\"\nendpoint = \"http://127.0.0.1:9/\"",
    "expected indexnow, websub, sitemap-ping, http-call"
)]
#[case::not_its_key(
    "via = \"websub\"\nendpoint = \"http://127.0.0.1:9/\"\nkey = \"0123456789abcdef\"",
    "“key” has no effect on an engine that is told via websub; it belongs to indexnow"
)]
#[case::no_feed("via = \"websub\"\nendpoint = \"http://127.0.0.1:9/\"", "add [newest]")]
#[case::no_field(
    "via = \"http-call\"\nendpoint = \"http://127.0.0.1:9/\"\nbody = \"hello\"",
    "no field says what is announced; expected {url}"
)]
#[case::a_slip("via = \"http-call\"\nendpoint = \"http://127.0.0.1:9/?u={ulr}\"", "there is no field {ulr}")]
#[case::no_token(
    "via = \"http-call\"\nendpoint = \"http://127.0.0.1:9/?u={url}&t={token}\"",
    "{token} needs “token_command”"
)]
#[case::idle_token(
    "via = \"http-call\"\nendpoint = \"http://127.0.0.1:9/?u={url}\"\ntoken_command = [\"date\"]",
    "nothing uses its output"
)]
#[case::header(
    "via = \"http-call\"\nendpoint = \"http://127.0.0.1:9/?u={url}\"\nheaders = { \"a b\" = \"x\" }",
    "a b is not a header of HTTP"
)]
fn engines_that_are_misconfigured(#[case] table: &str, #[case] wanted: &str) {
    let site = TestSite::new(&format!("{HTML}[[engine]]\nwait_until_live = false\nname = \"test\"\n{table}\n"));
    site.run(&["announce"]).says(2, &["idle-atlas.toml line ", wanted]);
}
