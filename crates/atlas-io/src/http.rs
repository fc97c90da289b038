//! HTTP as this tool uses it: one client, with time limits, that trusts nothing it is sent.

use std::sync::Once;
use std::time::Duration;

use reqwest::{Client, redirect};

/// What the tool calls itself.
pub const USER_AGENT: &str = concat!("idle-atlas/", env!("CARGO_PKG_VERSION"));
/// How long a connection may take to come about.
const CONNECT: Duration = Duration::from_secs(10);

/// Makes a client; `wait` is how long a whole answer may take. Redirects are not followed: a message that tells an engine
/// something is meant for the endpoint that was configured.
pub fn client(wait: Duration) -> Result<Client, reqwest::Error> {
    static PROVIDER: Once = Once::new();
    PROVIDER.call_once(|| {
        // Fails only when one is set already, which then serves as well.
        let _ = rustls::crypto::ring::default_provider().install_default();
    });
    Client::builder()
        .user_agent(USER_AGENT)
        .connect_timeout(CONNECT.min(wait))
        .timeout(wait)
        .redirect(redirect::Policy::none())
        .no_proxy()
        .build()
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
