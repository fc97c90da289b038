//! JSON Schemas of types that are written otherwise than their fields say.

use crate::announce::live::NotLive;
use crate::entry::Priority;
use crate::lastmod::Lastmod;
use crate::video::Access;

/// As it is written: a day, or an instant (W3C Date and Time Formats).
impl schemars::JsonSchema for Lastmod {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Lastmod".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "description": "A day, or an instant with its offset: 2026-11-23, 2026-11-23T09:30:00+00:00." })
    }
}

/// Its code.
impl schemars::JsonSchema for NotLive {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "NotLive".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "description": "Why something is not live, as a code." })
    }
}

impl schemars::JsonSchema for Priority {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Priority".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "number", "minimum": 0, "maximum": 1 })
    }
}

/// `allow GB IE` or `deny GB`.
impl schemars::JsonSchema for Access {
    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Access".into()
    }

    fn json_schema(_: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({ "type": "string", "description": "Whether the named are allowed or denied, and their names." })
    }
}
