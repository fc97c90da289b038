//! nginx in front of a folder, as a live site that the tests did not write themselves.

use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command};
use std::thread;
use std::time::Duration;

use serde_json::Value;

use crate::support::{HTML, TestSite};

/// nginx in front of a folder, until it is dropped.
pub struct Nginx {
    child: Child,
    _folder: tempfile::TempDir,
}

/// A port at which nothing listens.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

impl Nginx {
    /// Serves a folder, with further directives for its server block and further server blocks.
    pub fn start(root: &Path, port: u16, directives: &str, servers: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path().display();
        let config = format!(
            "master_process off; daemon off; pid {at}/pid; error_log {at}/error.log;\nevents {{ worker_connections 256; }}\nhttp {{ include /etc/nginx/mime.types; access_log off; absolute_redirect off;\n client_body_temp_path {at}/b; proxy_temp_path {at}/p; fastcgi_temp_path {at}/f; uwsgi_temp_path {at}/u; scgi_temp_path {at}/s;\n server {{ listen 127.0.0.1:{port}; root {}; index index.html; gzip on;\n{directives} }}\n{servers} }}",
            root.display()
        );
        std::fs::write(folder.path().join("nginx.conf"), config).unwrap();
        let child = Command::new("nginx")
            .arg("-c")
            .arg(folder.path().join("nginx.conf"))
            .arg("-e")
            .arg(folder.path().join("error.log"))
            .spawn();
        let nginx = Self { child: child.expect("nginx is installed"), _folder: folder };
        for _ in 0..100 {
            if TcpStream::connect(("127.0.0.1", port)).is_ok() {
                return nginx;
            }
            thread::sleep(Duration::from_millis(50));
        }
        panic!("nginx does not listen");
    }
}

impl Drop for Nginx {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// The sample site, built in several files, and reached at a port.
fn sample(port: u16) -> TestSite {
    let site = TestSite::new(&format!("{HTML}[files]\nurls_per_file = 20\n[videos]\nwrite = \"off\"\n"));
    let sample = Path::new(env!("CARGO_MANIFEST_DIR")).join("sample/public");
    let copied = Command::new("cp").arg("-r").arg(sample.join(".")).arg(site.path("public")).status().unwrap();
    assert!(copied.success());
    site.build();
    site.reconfigure("[site]", &format!("[site]\nreached_at = \"http://127.0.0.1:{port}\""));
    site
}

fn found(site: &TestSite) -> Vec<(String, String)> {
    let report = site.json(&["check", "--pages", "all", "--rate", "0"]);
    let short = |value: &Value| value.as_str().unwrap_or_default().rsplit("example").next().unwrap().to_owned();
    let findings = report["findings"].as_array().unwrap().iter();
    let about =
        |finding: &Value| if finding["url"].is_string() { short(&finding["url"]) } else { short(&finding["file"]) };
    let mut found: Vec<(String, String)> =
        findings.map(|finding| (finding["code"].as_str().unwrap().to_owned(), about(finding))).collect();
    found.sort();
    found
}

pub const MAIN_HOST: &str = "server_name www.marrowvale.example;";

/// Nobody else is served here.
pub fn others(port: u16) -> String {
    format!("server {{ listen 127.0.0.1:{port} default_server; return 404; }}")
}

#[test]
#[ignore = "needs nginx"]
fn the_sample_site_has_no_finding() {
    let port = free_port();
    let site = sample(port);
    let _nginx = Nginx::start(&site.path("public"), port, MAIN_HOST, &others(port));
    assert_eq!(found(&site), []);
}

#[test]
#[ignore = "needs nginx"]
fn faults_of_a_server_are_found_and_nothing_else() {
    let port = free_port();
    let site = sample(port);
    let root = site.path("public");
    let faults = format!(
        "{MAIN_HOST}
        error_page 404 =200 /404.html;
        location = /fares/ {{ return 301 /timetable/; }}
        location = /contact/ {{ return 410; }}
        location = /accessibility/ {{ try_files /404.html =410; }}
        location = /privacy/ {{ add_header X-Robots-Tag noindex; try_files /privacy/index.html =410; }}
        location = /atlas-pages-1.xml {{ types {{ }} default_type text/html; }}
        location = /atlas-pages-2.xml {{ add_header Content-Encoding gzip; }}
        location = /atlas-pages-3.xml {{ limit_rate 300; }}"
    );
    let second = format!(
        "{}\nserver {{ listen 127.0.0.1:{port}; server_name marrowvale.example; root {}; }}",
        others(port),
        root.display()
    );
    let _nginx = Nginx::start(&root, port, &faults, &second);
    let wanted = [
        ("content-encoding", "/atlas-pages-2.xml"),
        ("content-type", "/atlas-pages-1.xml"),
        ("file-slow", "/atlas-pages-3.xml"),
        ("no-page", "/contact/"),
        ("noindex", "/privacy/"),
        ("redirect", "/fares/"),
        ("second-copy", "/sitemap.xml"),
        ("soft-404", "/accessibility/"),
    ];
    assert_eq!(found(&site), wanted.map(|(code, about)| (code.to_owned(), about.to_owned())));
}

#[test]
#[ignore = "needs nginx"]
fn a_failing_robots_txt_is_the_only_finding() {
    let port = free_port();
    let site = sample(port);
    let fault = format!("{MAIN_HOST} location = /robots.txt {{ return 503; }}");
    let _nginx = Nginx::start(&site.path("public"), port, &fault, &others(port));
    assert_eq!(found(&site), [("robots-failing".to_owned(), "/robots.txt".to_owned())]);
}
