//! A web server that answers as a test wishes, well or badly.

use std::io::{BufRead, BufReader, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

/// What the server does with a request.
pub enum CannedAnswer {
    /// A page.
    Html(String),
    /// A status with headers and a body.
    Full(u16, Vec<(String, String)>, Vec<u8>),
    /// An endless body of this type, up to this many bytes.
    Endless(&'static str, u64),
    /// A body that ends before its stated length.
    CutOff(&'static str),
    /// A byte now and then.
    Drip,
}

/// A request: its path, and its head.
#[derive(Debug, Clone)]
pub struct Request {
    pub path: String,
    pub head: String,
}

/// A running server, which ends with the test's process.
pub struct Server {
    pub address: SocketAddr,
    requests: Arc<Mutex<Vec<Request>>>,
}

impl Server {
    pub fn start(answer: impl Fn(&Request) -> CannedAnswer + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let requests = Arc::new(Mutex::new(Vec::new()));
        let (seen, answer) = (Arc::clone(&requests), Arc::new(answer));
        thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (seen, answer) = (Arc::clone(&seen), Arc::clone(&answer));
                // A client that disconnects is not the server's fault.
                thread::spawn(move || drop(serve(stream, &seen, &*answer)));
            }
        });
        Self { address, requests }
    }

    pub fn url(&self) -> String {
        format!("http://{}/", self.address)
    }

    /// The requests so far.
    pub fn requests(&self) -> Vec<Request> {
        self.requests.lock().unwrap().clone()
    }

    /// How often a path was requested.
    pub fn count(&self, path: &str) -> usize {
        self.requests().iter().filter(|request| request.path == path).count()
    }
}

fn serve(
    stream: TcpStream,
    seen: &Mutex<Vec<Request>>,
    answer: &dyn Fn(&Request) -> CannedAnswer,
) -> std::io::Result<()> {
    let mut reader = BufReader::new(stream.try_clone()?);
    let mut out = stream;
    loop {
        let mut head = String::new();
        while !head.ends_with("\r\n\r\n") {
            if reader.read_line(&mut head)? == 0 {
                return Ok(());
            }
        }
        let path = head.split(' ').nth(1).unwrap_or("/").to_owned();
        let request = Request { path, head };
        let is_head = request.head.starts_with("HEAD ");
        seen.lock().unwrap().push(request.clone());
        match answer(&request) {
            CannedAnswer::Html(html) => {
                let headers = vec![("Content-Type".to_owned(), "text/html; charset=utf-8".to_owned())];
                full(&mut out, 200, &headers, html.as_bytes(), is_head)?;
            }
            CannedAnswer::Full(status, headers, body) => full(&mut out, status, &headers, &body, is_head)?,
            CannedAnswer::Endless(kind, most) => {
                write!(out, "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nConnection: close\r\n\r\n")?;
                let chunk = b"<p>and so on ".repeat(5000);
                let mut sent = 0;
                while sent < most {
                    out.write_all(&chunk)?;
                    sent += chunk.len() as u64;
                }
                return Ok(());
            }
            CannedAnswer::CutOff(text) => {
                write!(out, "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: 100000\r\n\r\n{text}")?;
                return Ok(());
            }
            CannedAnswer::Drip => {
                write!(out, "HTTP/1.1 200 OK\r\nContent-Type: text/html\r\nContent-Length: 100000\r\n\r\n")?;
                for _ in 0..600 {
                    out.write_all(b" ")?;
                    thread::sleep(Duration::from_millis(100));
                }
                return Ok(());
            }
        }
    }
}

fn full(
    out: &mut TcpStream,
    status: u16,
    headers: &[(String, String)],
    body: &[u8],
    is_head: bool,
) -> std::io::Result<()> {
    let mut answer = format!("HTTP/1.1 {status} Said So\r\nContent-Length: {}\r\n", body.len());
    for (name, value) in headers {
        answer += &format!("{name}: {value}\r\n");
    }
    let body = if is_head { b"" } else { body };
    out.write_all(&[answer.as_bytes(), b"\r\n", body].concat())
}

/// A redirect.
pub fn redirect(target: &str) -> CannedAnswer {
    CannedAnswer::Full(301, vec![("Location".to_owned(), target.to_owned())], Vec::new())
}

/// A status and nothing else.
pub fn status(status: u16) -> CannedAnswer {
    CannedAnswer::Full(status, Vec::new(), Vec::new())
}

/// A page with a text and links.
pub fn page(title: &str, links: &[&str]) -> CannedAnswer {
    let links: String = links.iter().map(|link| format!("<a href=\"{link}\">on</a> ")).collect();
    CannedAnswer::Html(format!(
        "<html><head><title>{title}</title></head><body><main><p>About {title}, in more words than one could wish for.</p>{links}</main>"
    ))
}
