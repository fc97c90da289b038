//! What the live site serves, well or badly, before engines are told.

use std::io::Write as _;
use std::path::Path;

use atlas_io::test_engine::{TestEngine, TestEngineSettings};
use flate2::Compression;
use flate2::write::GzEncoder;
use rstest::rstest;

use crate::server::{CannedAnswer, Request, Server, redirect, status};
use crate::support::{HTML, TestSite};

/// What a live server makes of a file; `None` serves it as it is.
type Twist = fn(OfFile) -> Option<CannedAnswer>;

/// A file of the web root that is asked for, or the path of one that is not there.
struct OfFile {
    path: String,
    kind: &'static str,
    bytes: Vec<u8>,
}

impl OfFile {
    /// An answer, if this is the main file.
    fn main(self, answer: impl Fn(Self) -> CannedAnswer) -> Option<CannedAnswer> {
        self.at("/sitemap.xml", answer)
    }

    /// An answer, if this is the file at that path.
    fn at(self, path: &str, answer: impl Fn(Self) -> CannedAnswer) -> Option<CannedAnswer> {
        (self.path == path).then(|| answer(self))
    }
}

/// A built site with a change that is still to be announced, and its live server.
struct LiveCase {
    site: TestSite,
    engine: TestEngine,
    server: Server,
}

fn full(kind: &str, more: &[(&str, &str)], body: &[u8]) -> CannedAnswer {
    let kind = [("Content-Type", kind)];
    let headers = kind.iter().chain(more).map(|(name, value)| ((*name).to_owned(), (*value).to_owned()));
    CannedAnswer::Full(200, headers.collect(), body.to_vec())
}

fn answer(root: &Path, request: &Request, twist: Twist) -> CannedAnswer {
    let file = root.join(request.path.trim_start_matches('/'));
    let read = std::fs::read(&file).ok();
    let kind = match file.extension().and_then(|end| end.to_str()) {
        Some("xml") => "application/xml",
        Some("html") => "text/html",
        _ => "text/plain",
    };
    let of = OfFile { path: request.path.clone(), kind, bytes: read.clone().unwrap_or_default() };
    let usual = || read.map_or_else(|| status(404), |bytes| full(kind, &[], &bytes));
    twist(of).unwrap_or_else(usual)
}

impl LiveCase {
    fn new(more: &str, twist: Twist) -> Self {
        let site = TestSite::new(HTML);
        ["a", "b", "c"].iter().for_each(|name| site.page(&format!("{name}.html"), name, "Text"));
        let engine = TestEngine::start(TestEngineSettings::fair()).unwrap();
        let root = site.path("public");
        let server = Server::start(move |request| answer(&root, request, twist));
        site.configure(&format!(
            "{HTML}[[engine]]\nname = \"test\"\nvia = \"http-call\"\nendpoint = \"{}\"\nbody = \"{{url}}\"\n{more}\n",
            engine.call()
        ));
        site.reconfigure("[site]", &format!("[site]\nreached_at = \"http://{}\"", server.address));
        site.build();
        site.page("a.html", "a", "Other text");
        std::fs::remove_file(site.path("public/c.html")).unwrap();
        assert_eq!(site.json(&["build", "--allow", "shrink"])["changes"]["changed"]["count"], 1);
        Self { site, engine, server }
    }
}

fn packed(bytes: &[u8]) -> Vec<u8> {
    let mut packer = GzEncoder::new(Vec::new(), Compression::fast());
    packer.write_all(bytes).unwrap();
    packer.finish().unwrap()
}

/// A main file that is served in any form that engines read counts as it was built.
#[rstest]
#[case::as_it_is(|_: OfFile| None)]
#[case::packed_on_the_way(|of: OfFile| of.main(|of| full(of.kind, &[("Content-Encoding", "gzip")], &packed(&of.bytes))))]
#[case::as_text_xml(|of: OfFile| of.main(|of| full("text/xml; charset=utf-8", &[], &of.bytes)))]
#[case::from_a_fresh_cache(|of: OfFile| of.main(|of| full(of.kind, &[("Age", "900")], &of.bytes)))]
fn a_main_file_as_built(#[case] twist: Twist) {
    let live = LiveCase::new("", twist);
    live.site.run(&["announce"]).says(0, &["2 URLs to announce (1 changed, 1 removed); 2 accepted"]);
    assert_eq!((live.engine.received().len(), live.server.count("/sitemap.xml")), (2, 1));
    let host = &live.server.requests()[0].head;
    assert!(host.to_lowercase().contains("host: www.marrowvale.example"), "{host}");
}

/// What is wrong with a main file is told apart, and nothing is announced.
#[rstest]
#[case::elsewhere(|of: OfFile| of.main(|_| redirect("https://marrowvale.example/sitemap.xml")), "other-site", "correct [site] url")]
#[case::moved(|of: OfFile| of.main(|_| redirect("/map.xml")), "redirect", "redirects with 301 to https://www.marrowvale.example/map.xml")]
#[case::shut(|of: OfFile| of.main(|_| status(403)), "status", "answers 403")]
#[case::missing(|of: OfFile| of.main(|_| status(404)), "status", "is not there yet")]
#[case::as_a_page(|of: OfFile| of.main(|of| full("text/html", &[], &of.bytes)), "content-type", "is served as text/html")]
#[case::blank_line(|of: OfFile| of.main(|of| full(of.kind, &[], &[&b"\n"[..], &of.bytes[..]].concat())), "blank-line", "begins with a blank line")]
#[case::mark(|of: OfFile| of.main(|of| full(of.kind, &[], &[&b"\xef\xbb\xbf"[..], &of.bytes[..]].concat())), "byte-order-mark", "byte-order mark")]
#[case::from_a_cache(|of: OfFile| of.main(|of| full(of.kind, &[("Age", "840"), ("ETag", "\"old\"")], b"<?xml version=\"1.0\"?><urlset/>")), "older-copy", "840 s ago (Age: 840, ETag \"old\"): purge it")]
#[case::older(|of: OfFile| of.main(|of| full(of.kind, &[], b"<?xml version=\"1.0\"?><urlset/>")), "older-copy", "another version than the one built here")]
#[case::a_wall(|of: OfFile| of.main(|_| full("text/plain", &[], b"Are you human?")), "different", "has other contents")]
#[case::cut_off(|of: OfFile| of.main(|_| CannedAnswer::CutOff("<?xml")), "no-answer", "no answer")]
#[case::endless(|of: OfFile| of.main(|_| CannedAnswer::Endless("application/xml", 60_000_000)), "different", "has other contents")]
fn a_main_file_that_engines_would_not_read(#[case] twist: Twist, #[case] code: &str, #[case] words: &str) {
    let live = LiveCase::new("", twist);
    live.site.run(&["announce"]).says(0, &["2 URLs wait until the live site", words]);
    let told = live.site.json(&["announce"]);
    assert_eq!(told[0]["not_live"]["seen"][0]["why"], code, "{told}");
    assert!(live.engine.received().is_empty());
}

/// Pages that engines would not take wait on their own.
#[rstest]
#[case::noindex_by_header(|of: OfFile| of.at("/a.html", |of| full(of.kind, &[("X-Robots-Tag", "noindex")], &of.bytes)), "forbids indexing (X-Robots-Tag: noindex)")]
#[case::noindex(|of: OfFile| of.at("/a.html", |of| full(of.kind, &[], b"<meta name=robots content=noindex>")), "forbids indexing (<meta")]
#[case::canonical(|of: OfFile| of.at("/a.html", |of| full(of.kind, &[], b"<link rel=canonical href=/b.html>")), "names https://www.marrowvale.example/b.html as its canonical")]
#[case::old(|of: OfFile| of.at("/a.html", |of| full(of.kind, &[], b"<title>a</title><main><p>Text</main>")), "still has another text")]
#[case::moved(|of: OfFile| of.at("/a.html", |_| redirect("/b.html")), "redirects with 301")]
#[case::still_there(|of: OfFile| of.at("/c.html", |_| full("text/html", &[], b"<title>c</title><main><p>Text</main>")), "still answers 200")]
#[case::in_trouble(|of: OfFile| of.at("/c.html", |_| status(503)), "answers 503")]
fn a_page_that_engines_would_not_take(#[case] twist: Twist, #[case] words: &str) {
    let live = LiveCase::new("", twist);
    live.site.run(&["announce"]).says(0, &["1 accepted", "1 URL waits until the live site", words]);
    assert_eq!(live.engine.received().len(), 1);
    live.site.run(&["announce"]).says(0, &["nothing is announced yet", "1 URL waits"]);
    // Who does not want to look need not.
    live.site.reconfigure("[[engine]]", "[[engine]]\nwait_until_live = false");
    live.site.run(&["announce"]).says(0, &["1 accepted"]);
}

/// A server that does not answer at all is no failure of the announcement.
#[test]
fn a_live_site_that_cannot_be_reached_is_waited_for() {
    let live = LiveCase::new("", |_: OfFile| None);
    let reached = format!("reached_at = \"http://{}\"", live.server.address);
    live.site.reconfigure(&reached, "reached_at = \"http://127.0.0.1:9\"");
    live.site.run(&["announce"]).says(0, &["2 URLs wait", "sitemap.xml no answer (", "refused"]);
}

#[rstest]
#[case::no_scheme("127.0.0.1:8080", "expected a scheme and a host")]
#[case::a_path("http://127.0.0.1:8080/www/", "the path of an address stays the same")]
fn where_the_site_is_reached_is_checked(#[case] at: &str, #[case] words: &str) {
    let site = TestSite::new(HTML);
    site.reconfigure("[site]", &format!("[site]\nreached_at = \"{at}\""));
    site.run(&["survey"]).says(2, &["line ", "“reached_at”", words]);
}
