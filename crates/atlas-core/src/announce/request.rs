//! The requests that are sent to engines.

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};

/// What is percent-encoded in a value of a query or a form: everything but unreserved characters (RFC 3986, section 2.3).
const VALUE: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// How a request is made (RFC 9110, section 9; RFC 5789).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// `GET`
    Get,
    /// `POST`
    Post,
    /// `PUT`
    Put,
    /// `PATCH`
    Patch,
    /// `DELETE`
    Delete,
}

impl Method {
    /// All methods.
    pub const ALL: [Self; 5] = [Self::Get, Self::Post, Self::Put, Self::Patch, Self::Delete];

    /// Its word in a request.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Get => "GET",
            Self::Post => "POST",
            Self::Put => "PUT",
            Self::Patch => "PATCH",
            Self::Delete => "DELETE",
        }
    }
}

/// A request to an engine, as it is sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct EngineRequest {
    /// How it is made.
    pub method: Method,
    /// Where it goes.
    pub url: String,
    /// Its headers: name and value.
    pub headers: Vec<(String, String)>,
    /// Its body; may be empty.
    pub body: Vec<u8>,
}

impl EngineRequest {
    /// A request without a body, with these values in its query.
    pub fn get(endpoint: &str, values: &[(&str, &str)]) -> Self {
        let sign = if endpoint.contains('?') { '&' } else { '?' };
        let url = format!("{endpoint}{sign}{}", form(values));
        Self { method: Method::Get, url, headers: Vec::new(), body: Vec::new() }
    }

    /// A request with a body of this content type.
    pub fn post(endpoint: &str, content_type: &str, body: Vec<u8>) -> Self {
        let headers = vec![("content-type".to_owned(), content_type.to_owned())];
        Self { method: Method::Post, url: endpoint.to_owned(), headers, body }
    }
}

/// Names and values as in a query, or in a body of the type `application/x-www-form-urlencoded`.
pub(super) fn form(values: &[(&str, &str)]) -> String {
    let pairs: Vec<String> = values.iter().map(|(name, value)| format!("{name}={}", encoded(value))).collect();
    pairs.join("&")
}

/// A value, percent-encoded.
pub(super) fn encoded(value: &str) -> String {
    utf8_percent_encode(value, VALUE).to_string()
}
