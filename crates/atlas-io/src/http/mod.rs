//! HTTP as this tool uses it: clients with time limits that do not trust what they receive.

mod address_rule;
mod retry;
mod runtime;
mod client;
mod fetch;

pub(crate) use self::address_rule::{may_be_asked, may_lead};
pub(crate) use self::client::builder;
pub use self::client::{ClientError, cause, client};
pub(crate) use self::fetch::{FetchError, Fetched};
pub(crate) use self::retry::retry_after;
pub(crate) use self::runtime::{block_on, runtime, until_stopped};
