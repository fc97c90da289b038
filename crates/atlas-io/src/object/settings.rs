//! How buckets are reached.

use crate::secret::Secret;

/// How a bucket is reached. What is not set is read from the environment, as the programs of its store do.
#[derive(Debug, Clone, Default)]
pub struct StoreSettings {
    /// The bucket or container.
    pub name: String,
    /// The URL of the store.
    pub endpoint: Option<Secret>,
    /// The region.
    pub region: Option<String>,
    /// Whether the bucket is a part of the path, and not of the host.
    pub path_style: Option<bool>,
    /// The account, on Azure.
    pub account: Option<Secret>,
    /// The access key, or its id.
    pub access_key: Option<Secret>,
    /// The secret of the access key.
    pub secret_key: Option<Secret>,
}
