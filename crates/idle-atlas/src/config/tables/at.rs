//! A value, and where it stands.

use std::borrow::Cow;
use std::ops::Range;

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::Deserialize;
use toml::Spanned;

/// A value of the configuration, and the bytes of the file that it was read from.
#[derive(Debug, Clone, Deserialize)]
#[serde(transparent)]
pub struct At<T>(Spanned<T>);

impl<T> At<T> {
    /// The bytes of the file that the value was read from.
    pub fn span(&self) -> Range<usize> {
        self.0.span()
    }
}

impl<T> AsRef<T> for At<T> {
    fn as_ref(&self) -> &T {
        self.0.as_ref()
    }
}

/// The schema is that of the value: where it stands is no part of it.
impl<T: JsonSchema> JsonSchema for At<T> {
    fn inline_schema() -> bool {
        T::inline_schema()
    }

    fn schema_name() -> Cow<'static, str> {
        T::schema_name()
    }

    fn schema_id() -> Cow<'static, str> {
        T::schema_id()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        T::json_schema(generator)
    }
}
