//! Serving what was published, for sites whose web root others may not write into.
//!
//! Only paths of files that were published are answered; nothing is looked up in the file system. A new build is seen as
//! a whole.
//!
//! | file | contents |
//! |---|---|
//! | `catalog` | what is published, by path |
//! | `answer` | a request and its answer (RFC 9110), without a network |
//! | `patience` | connections that neither read nor write are closed |
//! | `metrics` | the state of the site as Prometheus text |
//! | `server` | the server itself |

mod catalog;
mod answer;
mod patience;
mod metrics;
mod server;

pub use self::metrics::{EngineMetrics, SiteMetrics};
pub use self::server::{ServeSettings, ServerAddresses, serve};
