//! `serve`, beside nginx with the same files on disk, by the same load generator.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::thread;
use std::time::Duration;

use crate::site::BenchSite;
use crate::{ROOT, peak, table};

/// The seconds of one load.
const SECONDS: usize = 5;
/// Asks for the first files of the site, one after the other (wrk, Lua).
const IN_TURN: &str = "local n = 0\nrequest = function() n = n + 1; return wrk.format('GET', '/atlas-pages-' .. (1 + n % 100) .. '.xml') end\n";
/// The connections of a load.
const CONNECTIONS: usize = 64;

/// A server, until it is dropped.
struct LoadedServer(Child, u16);

impl Drop for LoadedServer {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl LoadedServer {
    fn start(mut command: Command, port: u16) -> Self {
        let child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("a server");
        let server = Self(child, port);
        for _ in 0..200 {
            if TcpStream::connect(("127.0.0.1", port)).is_ok() {
                return server;
            }
            thread::sleep(Duration::from_millis(50));
        }
        panic!("nothing listens at port {port}");
    }

    fn url(&self) -> String {
        format!("http://127.0.0.1:{}/atlas-pages-1.xml", self.1)
    }

    /// The validator of the file.
    fn tag(&self) -> String {
        let head = Command::new("curl").args(["-sI", &self.url()]).output().expect("curl is installed");
        let head = String::from_utf8_lossy(&head.stdout).into_owned();
        let line = head.lines().find(|line| line.to_lowercase().starts_with("etag:"));
        line.expect("a validator").split_once(':').map_or(String::new(), |(_, tag)| tag.trim().to_owned())
    }

    /// The requests a second that it answers: for several files in turn, or for one that is known.
    fn load(&self, known: Option<&str>) -> f64 {
        let script = tempfile::NamedTempFile::new().expect("a file");
        fs::write(script.path(), IN_TURN).expect("a script");
        let mut command = Command::new("wrk");
        command.args(["-t1", &format!("-c{CONNECTIONS}"), &format!("-d{SECONDS}s")]);
        match known {
            Some(header) => command.args(["-H", header]),
            None => command.arg("-s").arg(script.path()),
        };
        let output = command.arg(self.url()).output().expect("wrk is installed");
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let line = text.lines().find_map(|line| line.strip_prefix("Requests/sec:"));
        line.and_then(|number| number.trim().parse().ok()).unwrap_or_else(|| panic!("{text}"))
    }

    /// The peak memory in KiB (Linux).
    fn peak(&self) -> u64 {
        let status = fs::read_to_string(format!("/proc/{}/status", self.0.id())).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or_default();
        line.trim().trim_end_matches(" kB").parse().unwrap_or(0)
    }
}

fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").and_then(|listener| listener.local_addr()).expect("a port").port()
}

pub fn run(entries: usize, runs: usize) {
    let source = "from = \"table\"\nfile = \"pages.csv\"";
    let rows = table(entries);
    let of = |web_root: &str| {
        let site = BenchSite::new(ROOT, source, "");
        let config = format!("[site]\nurl = \"{ROOT}\"\nweb_root = \"{web_root}\"\n[[source]]\n{source}\n");
        fs::write(site.0.path().join("idle-atlas.toml"), config).expect("a configuration");
        fs::write(site.0.path().join("pages.csv"), &rows).expect("a table");
        site.run(&["build"]);
        site
    };
    let (ours, on_disk) = (of("ledger:"), of("public"));
    let serving = {
        let port = free_port();
        let mut command = Command::new(env!("CARGO_BIN_EXE_idle-atlas"));
        command.args(["serve", "--listen", &format!("127.0.0.1:{port}")]).current_dir(ours.0.path());
        LoadedServer::start(command, port)
    };
    let nginx = nginx(on_disk.0.path());
    println!("{entries} entries, {CONNECTIONS} connections, {SECONDS} s each, the best of {runs}");
    for (what, is_known) in [("a hundred files", false), ("304, not modified", true)] {
        let best = |server: &LoadedServer| {
            let header = is_known.then(|| format!("If-None-Match: {}", server.tag()));
            (0..runs).map(|_| server.load(header.as_deref())).fold(0.0, f64::max)
        };
        let (theirs, ours) = (best(&nginx), best(&serving));
        println!("  {what:<20} nginx {theirs:>8.0} a second, serve {ours:>8.0}: {:.2} of nginx", ours / theirs);
    }
    println!("  peak memory of serve: {}", peak(serving.peak()));
}

/// nginx with as many workers as there are cores.
fn nginx(folder: &Path) -> LoadedServer {
    let (port, at) = (free_port(), folder.display());
    let workers = thread::available_parallelism().map_or(1, usize::from);
    let config = format!(
        "worker_processes {workers}; daemon off; pid {at}/pid; error_log {at}/error.log;\nevents {{ worker_connections 4096; }}\nhttp {{ access_log off; sendfile on; open_file_cache max=1000; types {{ application/xml xml; }}\n client_body_temp_path {at}/b; proxy_temp_path {at}/p; fastcgi_temp_path {at}/f; uwsgi_temp_path {at}/u; scgi_temp_path {at}/s;\n server {{ listen 127.0.0.1:{port}; root {at}/public; }} }}"
    );
    fs::write(folder.join("nginx.conf"), config).expect("a configuration");
    let mut command = Command::new("nginx");
    command.arg("-c").arg(folder.join("nginx.conf")).arg("-e").arg(folder.join("error.log"));
    LoadedServer::start(command, port)
}
