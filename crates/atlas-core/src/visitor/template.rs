//! The HTML around the list of the visitor page.

use serde::Serialize;
use thiserror::Error;

pub(super) const STYLE: &str = include_str!("visitor.css");
const USUAL: &str = include_str!("visitor.html");

/// The HTML around the list. The placeholders `{{title}}`, `{{language}}`, `{{style}}`, `{{navigation}}` and
/// `{{content}}` are replaced.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PageTemplate(String);

/// Why a text is not a template.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TemplateError {
    /// It has no placeholder for the list.
    #[error("there is no {{{{content}}}} in it, which is where the list goes")]
    NoContent,
    /// It has an unknown placeholder.
    #[error(
        "{{{{{0}}}}} is unknown; known are title, language, style, navigation and content, each between {{{{ and }}}}"
    )]
    Unknown(String),
}

const PLACEHOLDERS: [&str; 5] = ["title", "language", "style", "navigation", "content"];

impl Default for PageTemplate {
    fn default() -> Self {
        Self(USUAL.to_owned())
    }
}

impl PageTemplate {
    /// Parses a template of the site's own.
    ///
    /// # Errors
    ///
    /// Returns a [`TemplateError`] if a placeholder is unknown or the list has none.
    pub fn parse(text: &str) -> Result<Self, TemplateError> {
        let mut has_content = false;
        for part in text.split("{{").skip(1) {
            let name = part.split_once("}}").map_or("", |(name, _)| name.trim());
            if !PLACEHOLDERS.contains(&name) {
                return Err(TemplateError::Unknown(name.chars().take(40).collect()));
            }
            has_content |= name == "content";
        }
        if has_content { Ok(Self(text.to_owned())) } else { Err(TemplateError::NoContent) }
    }

    pub(super) fn fill(&self, values: [&str; 5]) -> String {
        let mut parts = self.0.split("{{");
        let mut out = parts.next().unwrap_or("").to_owned();
        for part in parts {
            let (name, after) = part.split_once("}}").unwrap_or((part, ""));
            let at = PLACEHOLDERS.iter().position(|known| *known == name.trim());
            out += at.map_or("", |at| values[at]);
            out += after;
        }
        out
    }
}
