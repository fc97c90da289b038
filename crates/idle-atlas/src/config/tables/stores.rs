//! Object stores, as typed.

use schemars::JsonSchema;
use serde::Deserialize;

use super::At;

/// How a bucket is reached. What is not set here is read from the environment, as the programs of its store do.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StoreTable {
    /// The bucket or container, as in s3://NAME/.
    ///
    /// Example: `name = "depot"`
    pub name: At<String>,
    /// The URL of the store, if it is not that of the scheme's own.
    ///
    /// Example: `endpoint = "http://127.0.0.1:3900"`
    pub endpoint: Option<At<String>>,
    /// s3: the region.
    ///
    /// Example: `region = "eu-west-2"`
    pub region: Option<String>,
    /// s3: whether the bucket is the beginning of the path, and not of the host's name.
    ///
    /// Default: `true`
    pub path_style: Option<bool>,
    /// az: the account.
    ///
    /// Secret. Example: `account = "${AZURE_STORAGE_ACCOUNT_NAME}"`
    pub account: Option<At<String>>,
    /// s3: the id of the access key; az: the access key.
    ///
    /// Secret. Example: `access_key = "${DEPOT_KEY}"`
    pub access_key: Option<At<String>>,
    /// s3: the secret of the access key.
    ///
    /// Secret. Example: `secret_key = "${DEPOT_SECRET}"`
    pub secret_key: Option<At<String>>,
}

/// Where the ledger is kept between runs, for machines that are thrown away after each.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LedgerTable {
    /// The object in which it is kept. It is fetched before a run and put back after it.
    ///
    /// Example: `keep_at = "s3://depot/idle-atlas/ledger.gz"`
    pub keep_at: Option<At<String>>,
    /// A PostgreSQL database whose advisory lock lets one run work at a time, where the store heeds no conditions.
    ///
    /// Secret. Example: `lease = "${DATABASE_URL}"`
    pub lease: Option<At<String>>,
}
