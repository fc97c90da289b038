//! Object stores: buckets that speak the protocol of Amazon S3, Google Cloud Storage and Azure Blob Storage.
//!
//! Addresses and settings are known to every build of this crate. What reaches a store needs the feature
//! `object-stores`; without it, naming one is an error that says so.
//!
//! | file | contents |
//! |---|---|
//! | `address` | `s3://bucket/key` |
//! | `settings` | how a bucket is reached |
//! | `stores` | the stores of a configuration, opened when they are first named |
//! | `bucket` | one bucket: reading, listing, writing |
//! | `failure` | what stores answer, in words |
//! | `reader` | an object, read from its beginning by ranges |
//! | `blocks` | an object, read from anywhere |
//! | `destination` | a folder of a bucket, into which is published |
//! | `lease`, `advisory_lock` | one run at a time |
//! | `travel` | a ledger that is kept in a bucket between runs |

mod address;
mod settings;
#[cfg(feature = "object-stores")]
mod failure;
#[cfg(feature = "object-stores")]
mod bucket;
mod stores;
#[cfg(feature = "object-stores")]
mod reader;
#[cfg(all(feature = "object-stores", feature = "parquet"))]
mod blocks;
#[cfg(feature = "object-stores")]
mod destination;
#[cfg(feature = "object-stores")]
mod lease;
#[cfg(all(feature = "object-stores", feature = "sql-servers"))]
mod advisory_lock;
#[cfg(feature = "object-stores")]
mod travel;

pub use self::address::ObjectAddress;
#[cfg(all(feature = "object-stores", feature = "parquet"))]
pub(crate) use self::blocks::ObjectBlocks;
#[cfg(feature = "object-stores")]
pub use self::bucket::{Bucket, FoundObject, PutHow, ThereBefore};
#[cfg(feature = "object-stores")]
pub use self::destination::{BucketFolder, BucketStyle};
#[cfg(feature = "object-stores")]
pub(crate) use self::failure::StoreFailure;
#[cfg(feature = "object-stores")]
pub use self::reader::ObjectFile;
pub use self::settings::StoreSettings;
pub use self::stores::{ObjectStores, WITHOUT_STORES};
#[cfg(feature = "object-stores")]
pub use self::travel::{LedgerHome, Trip};
