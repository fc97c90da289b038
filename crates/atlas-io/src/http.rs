//! HTTP as this tool uses it: clients with time limits, that trust nothing they are sent.

use std::sync::Once;
use std::time::Duration;
use std::{fmt, io};

use reqwest::{Client, ClientBuilder, Response, StatusCode, redirect};

/// What the tool calls itself.
pub const USER_AGENT: &str = concat!("idle-atlas/", env!("CARGO_PKG_VERSION"));
/// How long a connection may take to come about.
const CONNECT: Duration = Duration::from_secs(10);
/// Redirects that are followed where a file is fetched.
const REDIRECTS: usize = 5;

/// Makes a client; `wait` is how long a whole answer may take. Redirects are not followed: a message that tells an engine
/// something is meant for the endpoint that was configured.
pub fn client(wait: Duration) -> Result<Client, reqwest::Error> {
    builder(wait).redirect(redirect::Policy::none()).build()
}

/// Makes a client that follows redirects, for files that the user names.
pub fn following(wait: Duration) -> Result<Client, reqwest::Error> {
    builder(wait).redirect(redirect::Policy::limited(REDIRECTS)).build()
}

/// What all clients have in common.
pub(crate) fn builder(wait: Duration) -> ClientBuilder {
    static PROVIDER: Once = Once::new();
    PROVIDER.call_once(|| {
        // Fails only when one is set already, which then serves as well.
        let _ = rustls::crypto::ring::default_provider().install_default();
    });
    Client::builder().user_agent(USER_AGENT).connect_timeout(CONNECT.min(wait)).timeout(wait).no_proxy()
}

/// Why nothing was fetched.
#[derive(Debug)]
pub(crate) enum GetError {
    /// The server answered with a status other than 2xx.
    Status(StatusCode),
    /// There was no answer, or none that can be taken: why, in words.
    Failed(String),
}

impl fmt::Display for GetError {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Status(status) => write!(formatter, "the server answers {status}"),
            Self::Failed(why) => formatter.write_str(why),
        }
    }
}

/// Fetches; an answer other than 2xx is an error.
pub(crate) async fn get(client: &Client, url: &str) -> Result<Response, GetError> {
    let answer = client.get(url).send().await.map_err(|error| GetError::Failed(cause(&error)))?;
    match answer.status() {
        status if status.is_success() => Ok(answer),
        status => Err(GetError::Status(status)),
    }
}

/// Fetches a text of at most so many bytes.
pub(crate) async fn get_bytes(client: &Client, url: &str, most: usize) -> Result<Vec<u8>, GetError> {
    let mut answer = get(client, url).await?;
    let mut bytes = Vec::new();
    while let Some(chunk) = answer.chunk().await.map_err(|error| GetError::Failed(cause(&error)))? {
        if bytes.len() + chunk.len() > most {
            return Err(GetError::Failed(format!("the answer is longer than {most} bytes")));
        }
        bytes.extend_from_slice(&chunk);
    }
    Ok(bytes)
}

/// Runs what waits for the network, from code that does not.
pub(crate) fn block_on<T>(future: impl Future<Output = io::Result<T>>) -> io::Result<T> {
    tokio::runtime::Builder::new_current_thread().enable_all().build()?.block_on(future)
}

/// The cause at the bottom of an error, in one line.
pub fn cause(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return "timed out".to_owned();
    }
    let mut cause: &dyn std::error::Error = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    cause.to_string()
}
