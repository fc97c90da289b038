//! What stores answer, in words that say what to do.

use std::io;
use std::iter;

use object_store::Error as ObjectError;
use thiserror::Error;

/// What a store answered, with what to do.
#[derive(Debug, Error)]
#[error("{0}")]
pub(crate) struct StoreFailure(String);

/// An error of a store, in words.
pub(super) fn in_words(error: &ObjectError, bucket: &str) -> io::Error {
    let (kind, why) = match error {
        _ if says(error, "NoSuchBucket") => (
            io::ErrorKind::NotFound,
            format!(
                "there is no bucket {bucket}, or it is in another region; correct its name, or “region” and “endpoint” in [[store]]"
            ),
        ),
        ObjectError::NotFound { .. } => (io::ErrorKind::NotFound, "there is no such object".to_owned()),
        ObjectError::PermissionDenied { .. } | ObjectError::Unauthenticated { .. } => (
            io::ErrorKind::Other,
            format!(
                "the store denies access to {bucket} ({}); check “access_key” and “secret_key” in [[store]] or in the environment, and what they permit",
                answer(error)
            ),
        ),
        ObjectError::NotImplemented { .. } | ObjectError::NotSupported { .. } => {
            (io::ErrorKind::Unsupported, answer(error))
        }
        _ if says(error, "NotImplemented") => (io::ErrorKind::Unsupported, answer(error)),
        ObjectError::Precondition { .. } | ObjectError::AlreadyExists { .. } | ObjectError::NotModified { .. } => {
            (io::ErrorKind::AlreadyExists, "someone else has changed it meanwhile".to_owned())
        }
        _ if ["PermanentRedirect", "AuthorizationHeaderMalformed", "IllegalLocationConstraint", "wrong region"]
            .iter()
            .any(|code| says(error, code)) =>
        {
            (
                io::ErrorKind::InvalidInput,
                format!("{bucket} is in another region ({}); correct “region” in [[store]]", answer(error)),
            )
        }
        _ => (io::ErrorKind::Other, format!("the store of {bucket} cannot be used: {}", answer(error))),
    };
    io::Error::new(kind, StoreFailure(why))
}

/// Whether an error or one of its causes says this.
fn says(error: &ObjectError, word: &str) -> bool {
    causes(error).any(|text| text.contains(word))
}

fn causes(error: &ObjectError) -> impl Iterator<Item = String> {
    iter::successors(Some(error as &dyn std::error::Error), |error| error.source()).map(ToString::to_string)
}

/// The gist of an answer: the code and message of the store, else the innermost cause.
fn answer(error: &ObjectError) -> String {
    let texts: Vec<String> = causes(error).collect();
    let element = |text: &str, name: &str| {
        let (_, rest) = text.split_once(&format!("<{name}>"))?;
        Some(rest.split_once("</")?.0.to_owned())
    };
    let told = texts.iter().find_map(|text| Some((element(text, "Code")?, element(text, "Message"))));
    match told {
        Some((code, Some(message))) => format!("{code}: {}", message.trim_end_matches('.')),
        Some((code, None)) => code,
        None => {
            let last = texts.last().map_or("", String::as_str);
            let line = last.lines().next().unwrap_or_default().trim();
            line.chars().take(300).collect()
        }
    }
}
