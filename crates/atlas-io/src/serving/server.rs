//! The server.

use std::collections::{HashMap, VecDeque};
use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use atlas_store::destination::{ServedFile, ServedReader};
use atlas_store::stop::Stop;
use bytes::Bytes;
use http_body_util::Full;
use hyper::body::Incoming;
use hyper::header::{self, HeaderValue};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::TcpListener;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::task::JoinSet;

use super::answer::{AnswerBody, ServeAnswer, answer};
use super::catalog::{Catalog, CatalogFile};
use super::metrics::SiteMetrics;
use super::patience::Patient;

/// How long the head of a request may take, and a connection may be idle.
const HEAD: Duration = Duration::from_secs(15);
/// How long nothing may move on a connection.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long requests that are being answered may take when the server ends.
const GRACE: Duration = Duration::from_secs(5);
/// How often it is looked whether something else is published, and whether to stop.
const GLANCE: Duration = Duration::from_millis(100);
/// How many bytes of files are kept in memory, and of files that are being sent besides.
const KEPT: usize = 24 << 20;
const IN_FLIGHT_KIB: usize = 32 << 10;
/// How long metrics are as they were.
const METRICS_AGE: Duration = Duration::from_secs(5);

/// What is served, and where.
pub struct ServeSettings<'s> {
    /// The folder of the ledger.
    pub folder: PathBuf,
    /// The path of the site's root, from `/` to `/`.
    pub site: String,
    /// The address to listen on.
    pub listen: SocketAddr,
    /// The address of /healthz and /metrics, if they are served.
    pub health: Option<SocketAddr>,
    /// How many connections are served at once. More wait in the queue of the system.
    pub connections: usize,
    /// The Cache-Control of every file.
    pub cache_control: Option<String>,
    /// Reads the state of the site; `None` if it cannot be read now.
    pub metrics: &'s (dyn Fn() -> Option<SiteMetrics> + Sync),
}

/// Where a server listens.
#[derive(Debug, Clone, Copy)]
pub struct ServerAddresses {
    /// Files.
    pub files: SocketAddr,
    /// /healthz and /metrics.
    pub health: Option<SocketAddr>,
}

/// What all connections share.
struct ServerState {
    folder: PathBuf,
    site: String,
    cache_control: Option<String>,
    catalog: RwLock<Arc<Catalog>>,
    reader: Mutex<Option<(ServedReader, i64)>>,
    kept: Mutex<KeptFiles>,
    in_flight: Arc<Semaphore>,
    metrics: Mutex<Option<(SystemTime, String)>>,
}

/// Files in memory: those that were asked for last.
#[derive(Default)]
struct KeptFiles {
    files: HashMap<String, (ServedFile, Bytes)>,
    order: VecDeque<String>,
    size: usize,
}

/// Serves until it is asked to stop. `ready` is told where, when connections are accepted.
///
/// # Errors
///
/// Returns an error if an address cannot be listened on.
pub fn serve(settings: &ServeSettings<'_>, stop: &Stop, ready: impl FnOnce(ServerAddresses)) -> io::Result<()> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let shared = Arc::new(ServerState {
        folder: settings.folder.clone(),
        site: settings.site.clone(),
        cache_control: settings.cache_control.clone(),
        catalog: RwLock::default(),
        reader: Mutex::default(),
        kept: Mutex::default(),
        in_flight: Arc::new(Semaphore::new(IN_FLIGHT_KIB)),
        metrics: Mutex::default(),
    });
    shared.refresh();
    let named = |address: SocketAddr| {
        move |error: io::Error| io::Error::new(error.kind(), format!("cannot listen on {address}: {error}"))
    };
    runtime.block_on(async {
        let files = TcpListener::bind(settings.listen).await.map_err(named(settings.listen))?;
        let health = match settings.health {
            Some(address) => Some(TcpListener::bind(address).await.map_err(named(address))?),
            None => None,
        };
        if health.is_some() {
            shared.set_metrics((settings.metrics)());
        }
        let address = |listener: &TcpListener| listener.local_addr();
        ready(ServerAddresses { files: address(&files)?, health: health.as_ref().map(address).transpose()? });
        let mut tasks = JoinSet::new();
        let room = || Arc::new(Semaphore::new(settings.connections));
        tasks.spawn(accept((files, room()), Arc::clone(&shared), stop.clone(), ListensFor::Files));
        if let Some(health) = health {
            tasks.spawn(accept((health, room()), Arc::clone(&shared), stop.clone(), ListensFor::Health));
        }
        while !stop.is_asked() {
            tokio::time::sleep(GLANCE).await;
            let refreshed = Arc::clone(&shared);
            // A thread of its own, because the disk may be slow.
            let _ = tokio::task::spawn_blocking(move || refreshed.refresh()).await;
            if settings.health.is_some() && shared.wants_metrics() {
                shared.set_metrics((settings.metrics)());
            }
        }
        while tasks.join_next().await.is_some() {}
        Ok(())
    })
}

/// What a listener is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ListensFor {
    Files,
    Health,
}

/// Accepts connections, as long as there is room, until it is asked to stop, and ends those that there are.
async fn accept(
    (listener, room): (TcpListener, Arc<Semaphore>),
    shared: Arc<ServerState>,
    stop: Stop,
    purpose: ListensFor,
) {
    let (ending, ended) = tokio::sync::watch::channel(false);
    let mut connections = JoinSet::new();
    let asked = async {
        while !stop.is_asked() {
            tokio::time::sleep(GLANCE).await;
        }
    };
    tokio::pin!(asked);
    loop {
        while connections.try_join_next().is_some() {}
        // A full house waits for room, and ends all the same when it is asked to.
        let next = async {
            let permit = Arc::clone(&room).acquire_owned().await;
            (permit, listener.accept().await)
        };
        let (permit, accepted) = tokio::select! {
            biased;
            () = &mut asked => break,
            next = next => next,
        };
        let Ok(permit) = permit else { break };
        let Ok((stream, _)) = accepted else {
            // Too many open files: those that are served will close some.
            tokio::time::sleep(GLANCE).await;
            continue;
        };
        let _ = stream.set_nodelay(true);
        let (shared, mut ended) = (Arc::clone(&shared), ended.clone());
        connections.spawn(async move {
            let _permit: OwnedSemaphorePermit = permit;
            let service = service_fn(|request| respond(Arc::clone(&shared), request, purpose));
            let mut http = http1::Builder::new();
            http.timer(TokioTimer::new()).header_read_timeout(HEAD).max_buf_size(16 << 10);
            let connection = http.serve_connection(TokioIo::new(Patient::new(stream, PATIENCE)), service);
            tokio::pin!(connection);
            tokio::select! {
                // A client that breaks off is nobody's error.
                _ = &mut connection => {}
                _ = ended.changed() => {
                    connection.as_mut().graceful_shutdown();
                    let _ = tokio::time::timeout(GRACE, connection).await;
                }
            }
        });
    }
    let _ = ending.send(true);
    drop(listener);
    while connections.join_next().await.is_some() {}
}

/// Answers a request.
async fn respond(
    shared: Arc<ServerState>,
    request: Request<Incoming>,
    purpose: ListensFor,
) -> Result<Response<Full<Bytes>>, Infallible> {
    if purpose == ListensFor::Health {
        return Ok(shared.health(request.method(), request.uri().path()));
    }
    let catalog = Arc::clone(&shared.catalog.read().unwrap_or_else(PoisonError::into_inner));
    let cache_control = shared.cache_control.as_deref();
    let mut answered = answer(&catalog, request.method(), request.uri().path(), request.headers(), cache_control);
    let mut body = Bytes::new();
    if let AnswerBody::Part(file, range) = &answered.body {
        let read = shared.bytes(file).await;
        let part = read.as_ref().map(|bytes| bytes.slice(range.start as usize..range.end as usize));
        match part {
            Some(part) => body = part,
            // Something else was published a moment ago.
            None => {
                answered = ServeAnswer {
                    status: StatusCode::SERVICE_UNAVAILABLE,
                    headers: vec![(header::RETRY_AFTER, "1".to_owned())],
                    body: AnswerBody::Text("just a moment\n"),
                }
            }
        }
    }
    Ok(response(answered, body))
}

fn response(answered: ServeAnswer, body: Bytes) -> Response<Full<Bytes>> {
    let ServeAnswer { status, mut headers, body: wanted } = answered;
    let body = match wanted {
        AnswerBody::Part(..) => body,
        AnswerBody::Text(text) => {
            headers.push((header::CONTENT_TYPE, "text/plain; charset=utf-8".to_owned()));
            Bytes::from_static(text.as_bytes())
        }
        AnswerBody::None(length) => {
            headers.extend(length.map(|length| (header::CONTENT_LENGTH, length.to_string())));
            Bytes::new()
        }
    };
    let mut response = Response::new(Full::new(body));
    *response.status_mut() = status;
    for (name, value) in headers {
        if let Ok(value) = HeaderValue::from_maybe_shared(Bytes::from(value)) {
            response.headers_mut().insert(name, value);
        }
    }
    response
}

impl ServerState {
    /// Reads what is published, if it is something else than before.
    fn refresh(&self) {
        let mut reader = self.reader.lock().unwrap_or_else(PoisonError::into_inner);
        if reader.is_none() {
            *reader = ServedReader::open(&self.folder).ok().flatten().map(|reader| (reader, -1));
        }
        let Some((open, known)) = reader.as_mut() else { return };
        let Ok(generation) = open.generation() else { return *reader = None };
        if generation == *known {
            return;
        }
        match open.files() {
            Ok(files) => {
                *known = generation;
                let catalog = Arc::new(Catalog::of(files, &self.site));
                *self.catalog.write().unwrap_or_else(PoisonError::into_inner) = catalog;
            }
            Err(_) => *reader = None,
        }
    }

    /// The bytes of a file, if it still is published.
    async fn bytes(self: &Arc<Self>, wanted: &CatalogFile) -> Option<Bytes> {
        let file = &wanted.file;
        if let Some(bytes) = self.kept.lock().unwrap_or_else(PoisonError::into_inner).get(file) {
            return Some(bytes);
        }
        let kib = u32::try_from(file.size.div_ceil(1024)).ok()?.clamp(1, IN_FLIGHT_KIB as u32);
        let permit = Arc::clone(&self.in_flight).acquire_many_owned(kib).await.ok()?;
        let (shared, file) = (Arc::clone(self), file.clone());
        let read = move || {
            let reader = shared.reader.lock().unwrap_or_else(PoisonError::into_inner);
            let bytes = reader.as_ref()?.0.bytes(&file).ok()??;
            drop(reader);
            let mut kept = shared.kept.lock().unwrap_or_else(PoisonError::into_inner);
            Some(match bytes.len() <= KEPT / 4 {
                true => kept.keep(file, bytes.into()),
                // It counts until it has been sent.
                false => Bytes::from_owner(InFlight { bytes, _permit: permit }),
            })
        };
        tokio::task::spawn_blocking(read).await.ok().flatten()
    }

    fn wants_metrics(&self) -> bool {
        let metrics = self.metrics.lock().unwrap_or_else(PoisonError::into_inner);
        metrics.as_ref().is_none_or(|(at, _)| at.elapsed().is_ok_and(|age| age > METRICS_AGE))
    }

    fn set_metrics(&self, metrics: Option<SiteMetrics>) {
        let now = SystemTime::now();
        let seconds = now.duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs().cast_signed());
        let text = metrics.map_or(String::new(), |metrics| metrics.text(seconds));
        *self.metrics.lock().unwrap_or_else(PoisonError::into_inner) = Some((now, text));
    }

    /// The answer of the other address.
    fn health(&self, method: &Method, path: &str) -> Response<Full<Bytes>> {
        let is_known = method == Method::GET || method == Method::HEAD;
        let text = match path {
            "/healthz" if is_known => "ok\n".to_owned(),
            "/metrics" if is_known => {
                let metrics = self.metrics.lock().unwrap_or_else(PoisonError::into_inner);
                metrics.as_ref().map_or(String::new(), |(_, text)| text.clone())
            }
            _ => {
                let body = AnswerBody::Text("not found\n");
                return response(
                    ServeAnswer { status: StatusCode::NOT_FOUND, headers: Vec::new(), body },
                    Bytes::new(),
                );
            }
        };
        let mut answered = Response::new(Full::new(Bytes::from(text)));
        let kind = HeaderValue::from_static("text/plain; version=0.0.4; charset=utf-8");
        answered.headers_mut().insert(header::CONTENT_TYPE, kind);
        answered
    }
}

/// The bytes of a large file, which count until they have been sent.
struct InFlight {
    bytes: Vec<u8>,
    _permit: OwnedSemaphorePermit,
}

impl AsRef<[u8]> for InFlight {
    fn as_ref(&self) -> &[u8] {
        &self.bytes
    }
}

impl KeptFiles {
    fn get(&self, file: &ServedFile) -> Option<Bytes> {
        self.files.get(&file.name).filter(|(known, _)| known == file).map(|(_, bytes)| bytes.clone())
    }

    fn keep(&mut self, file: ServedFile, bytes: Bytes) -> Bytes {
        while self.size + bytes.len() > KEPT {
            let Some(oldest) = self.order.pop_front() else { break };
            if let Some((_, bytes)) = self.files.remove(&oldest) {
                self.size -= bytes.len();
            }
        }
        self.size += bytes.len();
        match self.files.insert(file.name.clone(), (file.clone(), bytes.clone())) {
            Some((_, before)) => self.size -= before.len(),
            None => self.order.push_back(file.name),
        }
        bytes
    }
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::net::TcpStream;
    use std::sync::mpsc::channel;

    use super::*;

    /// With all connections taken, others wait, and the server still ends when it is asked to.
    #[test]
    fn a_full_house_waits_for_room_and_ends() {
        let folder = tempfile::tempdir().unwrap();
        let (stop, (told, address)) = (Stop::default(), channel());
        let asked = stop.clone();
        let path = folder.path().to_owned();
        let serving = std::thread::spawn(move || {
            let settings = ServeSettings {
                folder: path,
                site: "/".to_owned(),
                listen: "127.0.0.1:0".parse().unwrap(),
                health: None,
                connections: 2,
                cache_control: None,
                metrics: &|| None,
            };
            serve(&settings, &asked, |addresses| told.send(addresses.files).unwrap())
        });
        let address = address.recv().unwrap();
        let connect = || {
            let mut stream = TcpStream::connect(address).unwrap();
            stream.set_read_timeout(Some(Duration::from_millis(400))).unwrap();
            stream.write_all(b"GET /sitemap.xml HTTP/1.1\r\nhost: x\r\n\r\n").unwrap();
            stream
        };
        let is_answered = |stream: &mut TcpStream| stream.read(&mut [0; 64]).is_ok_and(|read| read > 0);
        let mut guests: Vec<TcpStream> = (0..2).map(|_| connect()).collect();
        assert!(guests.iter_mut().all(is_answered));
        let mut late: Vec<TcpStream> = (0..3).map(|_| connect()).collect();
        assert!(!late.iter_mut().any(is_answered), "they wait");
        guests.pop();
        late[0].set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        assert!(is_answered(&mut late[0]), "the first of them is let in");
        stop.ask();
        assert!(serving.join().unwrap().is_ok());
    }
}
