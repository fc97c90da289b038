//! A small web server on loopback, for trying things out: it serves a web root as the site would.

use std::io;
use std::net::{SocketAddr, TcpListener};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::{self, JoinHandle};

use axum::Router;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::{StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use tokio::sync::oneshot;

use crate::reading::relative_path;

/// A server that runs until it is dropped.
#[derive(Debug)]
pub struct Served {
    address: SocketAddr,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Served {
    /// Runs a router on an address of this machine; port 0 takes a free one.
    ///
    /// # Errors
    ///
    /// Returns an error if the address is not valid or is in use.
    pub fn run(router: Router, address: &str) -> io::Result<Self> {
        let listener = TcpListener::bind(address)?;
        listener.set_nonblocking(true)?;
        let address = listener.local_addr()?;
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let (stop, stopped) = oneshot::channel::<()>();
        let thread = thread::spawn(move || {
            runtime.block_on(async move {
                let Ok(listener) = tokio::net::TcpListener::from_std(listener) else { return };
                let serving = axum::serve(listener, router).into_future();
                // Pending answers are dropped, because one of them may be hanging on purpose.
                tokio::select! {
                    _ = serving => {}
                    _ = stopped => {}
                }
            });
        });
        Ok(Self { address, stop: Some(stop), thread: Some(thread) })
    }

    /// The address it listens on.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        if let Some(stop) = self.stop.take() {
            let _ = stop.send(());
        }
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// Serves the files of a folder on a free port of 127.0.0.1.
///
/// # Errors
///
/// Returns an error if no port is free.
pub fn folder(folder: &Path) -> io::Result<Served> {
    site(folder, |_| None)
}

/// The same, with an application that makes the page of a path for which there is no file, or does not.
///
/// # Errors
///
/// Returns an error if no port is free.
pub fn site(folder: &Path, application: impl Fn(&str) -> Option<String> + Send + Sync + 'static) -> io::Result<Served> {
    let state = ServedSite { folder: folder.to_owned(), application: Arc::new(application) };
    let router = Router::new().fallback(answer).with_state(state);
    Served::run(router, "127.0.0.1:0")
}

/// What is served.
#[derive(Clone)]
struct ServedSite {
    folder: PathBuf,
    application: Arc<Application>,
}

/// Makes the page of a path.
type Application = dyn Fn(&str) -> Option<String> + Send + Sync;

async fn answer(State(site): State<ServedSite>, uri: Uri) -> Response {
    if let Some((bytes, kind)) = find(&site.folder, uri.path()) {
        return ([(header::CONTENT_TYPE, kind)], Bytes::from(bytes)).into_response();
    }
    match (site.application)(uri.path()) {
        Some(page) => ([(header::CONTENT_TYPE, "text/html; charset=utf-8")], page).into_response(),
        None => (StatusCode::NOT_FOUND, "404 not found\n").into_response(),
    }
}

/// The file for a path, as most servers would find it.
fn find(folder: &Path, path: &str) -> Option<(Vec<u8>, &'static str)> {
    let relative = relative_path(path)?;
    let mut file = folder.join(relative);
    if file.is_dir() {
        file.push("index.html");
    }
    let bytes = std::fs::read(&file).ok()?;
    let kind = match file.extension()?.to_str()? {
        "html" | "htm" => "text/html; charset=utf-8",
        "xml" => "application/xml",
        "gz" => "application/gzip",
        "txt" => "text/plain; charset=utf-8",
        "css" => "text/css",
        "svg" => "image/svg+xml",
        _ => "application/octet-stream",
    };
    Some((bytes, kind))
}
