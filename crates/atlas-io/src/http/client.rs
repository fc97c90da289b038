//! HTTP clients with time limits.
//!
//! The proxies of the environment are used: `HTTPS_PROXY`, `HTTP_PROXY` and `ALL_PROXY`, in upper or lower case, except
//! for the hosts that `NO_PROXY` lists, and never for this machine itself.

use std::sync::Once;
use std::time::Duration;
use std::{env, iter};

use reqwest::{Certificate, Client, ClientBuilder, NoProxy, Proxy, redirect};
use thiserror::Error;

/// The `User-Agent` of all requests.
pub(crate) const USER_AGENT: &str = concat!("idle-atlas/", env!("CARGO_PKG_VERSION"));
/// How long connecting may take.
const CONNECT: Duration = Duration::from_secs(10);
/// The names of this machine, which are never reached through a proxy.
const THIS_MACHINE: &str = "localhost,127.0.0.0/8,::1";

/// Why a client could not be made.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ClientError {
    /// An environment variable that should name a proxy is not valid.
    #[error("the environment variable {name} is not the URL of a proxy, such as http://proxy.example:3128: {}", cause(.source))]
    Proxy {
        /// The variable, in upper case.
        name: &'static str,
        /// What is wrong with its value.
        source: reqwest::Error,
    },
    /// There is no runtime for it.
    #[error("cannot start: {0}")]
    Runtime(#[source] std::io::Error),
    /// Another cause.
    #[error("{}", cause(.0))]
    Client(#[source] reqwest::Error),
}

/// The innermost cause of an error, in one line.
pub fn cause(error: &reqwest::Error) -> String {
    if error.is_timeout() {
        return "timed out".to_owned();
    }
    let mut causes = iter::successors(Some(error as &dyn std::error::Error), |error| error.source());
    causes.by_ref().last().map(ToString::to_string).unwrap_or_default()
}

/// Makes a client; `wait` is the time limit for a whole answer. It does not follow redirects: a message to an engine is
/// meant for the configured endpoint, and the caller of a fetch sees the redirects.
///
/// # Errors
///
/// Returns a [`ClientError`] if a proxy in the environment is not valid.
pub fn client(wait: Duration) -> Result<Client, ClientError> {
    builder(wait)?.build().map_err(ClientError::Client)
}

/// The settings of all clients.
pub(crate) fn builder(wait: Duration) -> Result<ClientBuilder, ClientError> {
    static PROVIDER: Once = Once::new();
    PROVIDER.call_once(|| {
        // This fails only if a provider is already installed, which serves as well.
        let _ = rustls::crypto::ring::default_provider().install_default();
    });
    let builder = Client::builder()
        .user_agent(USER_AGENT)
        .connect_timeout(CONNECT.min(wait))
        .timeout(wait)
        .redirect(redirect::Policy::none())
        .no_proxy();
    let builder = if has_certificates() { builder } else { builder.tls_certs_only(bundled()) };
    Ok(proxies(|name| env::var(name).ok())?.into_iter().fold(builder, ClientBuilder::proxy))
}

/// Whether the system says which certificate authorities it trusts. A container made from nothing does not.
fn has_certificates() -> bool {
    let found = openssl_probe::probe();
    cfg!(not(target_os = "linux")) || found.cert_file.is_some() || !found.cert_dir.is_empty()
}

/// The authorities that browsers trust, as of when this program was built.
fn bundled() -> impl Iterator<Item = Certificate> {
    webpki_root_certs::TLS_SERVER_ROOT_CERTS.iter().filter_map(|der| Certificate::from_der(der).ok())
}

/// The proxies that the environment names; `variable` reads it.
fn proxies(variable: impl Fn(&str) -> Option<String>) -> Result<Vec<Proxy>, ClientError> {
    let read = |name: &str| {
        let small = variable(&name.to_ascii_lowercase());
        // Web servers pass a visitor's `Proxy` header to CGI programs as HTTP_PROXY in upper case.
        let capitals = || variable(name).filter(|_| name != "HTTP_PROXY" || variable("REQUEST_METHOD").is_none());
        small.or_else(capitals).filter(|value| !value.trim().is_empty())
    };
    let but_for = format!("{THIS_MACHINE},{}", read("NO_PROXY").unwrap_or_default());
    let proxy = |name, make: fn(String) -> reqwest::Result<Proxy>| {
        let made = read(name).map(make).transpose();
        made.map_err(|source| ClientError::Proxy { name, source })
    };
    let named =
        [proxy("HTTPS_PROXY", Proxy::https)?, proxy("HTTP_PROXY", Proxy::http)?, proxy("ALL_PROXY", Proxy::all)?];
    Ok(named.into_iter().flatten().map(|proxy| proxy.no_proxy(NoProxy::from_string(&but_for))).collect())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::none(&[], 0)]
    #[case::small_letters(&[("https_proxy", "http://proxy.example:3128")], 1)]
    #[case::capitals(&[("HTTPS_PROXY", "http://proxy.example:3128"), ("ALL_PROXY", "http://proxy.example:3128")], 2)]
    #[case::a_visitor_cannot_name_one(&[("HTTP_PROXY", "http://evil.example"), ("REQUEST_METHOD", "GET")], 0)]
    #[case::blank(&[("HTTP_PROXY", " ")], 0)]
    fn proxies_of_the_environment(#[case] variables: &[(&str, &str)], #[case] wanted: usize) {
        let read =
            |name: &str| variables.iter().find(|(known, _)| *known == name).map(|(_, value)| (*value).to_owned());
        assert_eq!(proxies(read).unwrap().len(), wanted);
    }

    #[test]
    fn an_invalid_proxy_is_reported() {
        let error = proxies(|name| (name == "ALL_PROXY").then(|| "http://[".to_owned())).unwrap_err().to_string();
        assert!(error.starts_with("the environment variable ALL_PROXY is not the URL of a proxy"), "{error}");
    }
}
