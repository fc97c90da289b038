//! The stores of a configuration.

#[cfg(feature = "object-stores")]
use std::collections::BTreeMap;
use std::collections::BTreeSet;
#[cfg(feature = "object-stores")]
use std::sync::Arc;
use std::sync::{Mutex, PoisonError};

#[cfg(feature = "object-stores")]
use super::address::ObjectAddress;
#[cfg(feature = "object-stores")]
use super::bucket::Bucket;
use super::settings::StoreSettings;

/// What is said of addresses in object stores by a program that reaches none.
pub const WITHOUT_STORES: &str = "this idle-atlas was built without object stores; use the release archive, or build it with the cargo feature “object-stores”";

/// The stores of a configuration. Each bucket is opened when it is first named.
#[derive(Debug, Default)]
pub struct ObjectStores {
    settings: Vec<StoreSettings>,
    used: Mutex<BTreeSet<String>>,
    #[cfg(feature = "object-stores")]
    open: Mutex<BTreeMap<(&'static str, String), Arc<Bucket>>>,
}

impl ObjectStores {
    /// With these settings of buckets.
    pub fn new(settings: Vec<StoreSettings>) -> Self {
        Self { settings, ..Self::default() }
    }

    /// The bucket of an address.
    ///
    /// # Errors
    ///
    /// Returns a message if the settings are not valid.
    #[cfg(feature = "object-stores")]
    pub fn bucket(&self, address: &ObjectAddress) -> Result<Arc<Bucket>, String> {
        let mut open = self.open.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (address.scheme, address.bucket.clone());
        if let Some(bucket) = open.get(&key) {
            return Ok(Arc::clone(bucket));
        }
        let settings = self.settings.iter().find(|settings| settings.name == address.bucket);
        self.used.lock().unwrap_or_else(PoisonError::into_inner).insert(address.bucket.clone());
        let bucket = Arc::new(Bucket::open(address, settings)?);
        open.insert(key, Arc::clone(&bucket));
        Ok(bucket)
    }

    /// The first settings whose bucket no address has named so far.
    pub fn unused(&self) -> Option<&StoreSettings> {
        let used = self.used.lock().unwrap_or_else(PoisonError::into_inner);
        self.settings.iter().find(|settings| !used.contains(&settings.name))
    }
}
