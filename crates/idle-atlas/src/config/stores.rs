//! Resolving `[[store]]`: how buckets are reached.

#[cfg(not(feature = "object-stores"))]
use std::convert::Infallible;
use std::path::{Path, PathBuf};

#[cfg(not(feature = "object-stores"))]
use atlas_io::object::WITHOUT_STORES;
#[cfg(feature = "object-stores")]
use atlas_io::object::{BucketFolder, BucketStyle, LedgerHome};
use atlas_io::object::{ObjectAddress, ObjectStores, StoreSettings};
use atlas_io::secret::Secret;
#[cfg(feature = "object-stores")]
use atlas_io::sources::sql;
use atlas_store::destination::Destination;
#[cfg(feature = "object-stores")]
use atlas_store::destination::Folder;

#[cfg(feature = "object-stores")]
use super::context::expand_with;
use super::context::{Context, IN_LEDGER, expand};
use super::file::{ConfigFile, ConfigText};
#[cfg(feature = "object-stores")]
use super::output::ENCODED;
use super::tables::{At, FilesTable, LedgerTable, StoreTable};
use crate::exit::Failure;

/// The stores that the configuration sets up.
pub(super) fn stores(origin: &ConfigText, tables: &[StoreTable]) -> Result<ObjectStores, Failure> {
    let mut all: Vec<StoreSettings> = Vec::new();
    for table in tables {
        let name = table.name.as_ref();
        if name.is_empty() || name.contains(['/', ':']) {
            let message =
                format!("“name”: “{name}” is not a bucket; expected its name alone, such as depot in s3://depot/");
            return Err(origin.error(&table.name, message));
        }
        if all.iter().any(|other| other.name == *name) {
            return Err(origin.error(&table.name, format!("“name”: there are two stores “{name}”; keep one of them")));
        }
        all.push(settings(origin, table)?);
    }
    Ok(ObjectStores::new(all))
}

fn settings(origin: &ConfigText, table: &StoreTable) -> Result<StoreSettings, Failure> {
    let secret = |typed: &Option<At<String>>| typed.as_ref().map(|typed| expand(origin, typed)).transpose();
    let hidden = |key: &str, typed: &Option<At<String>>| match typed {
        Some(typed) if !typed.as_ref().contains("${") => {
            let message =
                format!("“{key}”: anyone can read it here; put it in the environment and write ${{NAME}} in its place");
            Err(origin.error(typed, message))
        }
        typed => secret(typed),
    };
    let endpoint = secret(&table.endpoint)?;
    let is_url = |endpoint: &Secret| {
        ["http://", "https://"]
            .iter()
            .any(|scheme| endpoint.expose().strip_prefix(scheme).is_some_and(|host| !host.is_empty()))
    };
    if let Some((typed, endpoint)) = table.endpoint.as_ref().zip(endpoint.as_ref()).filter(|(_, url)| !is_url(url)) {
        let message = format!("“endpoint”: “{endpoint}” is not a URL; expected one such as https://store.example");
        return Err(origin.error(typed, message));
    }
    Ok(StoreSettings {
        name: table.name.as_ref().clone(),
        endpoint,
        region: table.region.clone(),
        path_style: table.path_style,
        account: secret(&table.account)?,
        access_key: secret(&table.access_key)?,
        secret_key: hidden("secret_key", &table.secret_key)?,
    })
}

/// The address of a web root in an object store, whose key is empty or ends with `/`; `None` if it is a folder.
pub(super) fn web_bucket(
    origin: &ConfigText,
    typed: &At<String>,
    expanded: &str,
) -> Result<Option<ObjectAddress>, Failure> {
    let Some(address) = ObjectAddress::parse(expanded) else { return Ok(None) };
    let mut address = address.map_err(|why| origin.error(typed, format!("“web_root”: {why}")))?;
    if !address.key.is_empty() && !address.key.ends_with('/') {
        address.key.push('/');
    }
    Ok(Some(address))
}

/// What is set for a web root in an object store.
#[cfg_attr(not(feature = "object-stores"), expect(dead_code, reason = "this program reaches no store"))]
pub(super) struct BucketRoot<'t> {
    /// The web root, as typed.
    pub(super) typed: &'t At<String>,
    /// Its address.
    pub(super) address: ObjectAddress,
    /// The name of the main file.
    pub(super) main: &'t str,
    /// The files, as typed.
    pub(super) files: &'t FilesTable,
    /// The path of robots.txt, if it is known, which begins with the address of the web root's bucket.
    pub(super) robots: Option<&'t Path>,
    /// The folder for structured data.
    pub(super) data: Option<PathBuf>,
}

impl BucketRoot<'_> {
    /// The destination of what is published.
    #[cfg(feature = "object-stores")]
    pub(super) fn destination(
        self,
        origin: &ConfigText,
        stores: &ObjectStores,
    ) -> Result<Box<dyn Destination>, Failure> {
        let Self { typed, address, main, files, robots, data } = self;
        let bucket = stores.bucket(&address).map_err(|why| origin.error(typed, format!("“web_root”: {why}")))?;
        let robots = robots.map(|path| {
            let named = path.to_str().and_then(ObjectAddress::parse).and_then(Result::ok);
            named.map_or_else(|| format!("{}robots.txt", address.key), |named| named.key)
        });
        let style = BucketStyle {
            cache_control: files.cache_control.as_ref().map(|value| value.as_ref().clone()),
            is_encoded: files.gzip.as_ref().is_some_and(|word| word.as_ref() == ENCODED),
        };
        let data = data.map(|data| Folder::new(data.clone(), data.clone(), Some(data), None));
        Ok(Box::new(BucketFolder::new(bucket, address, main, robots, data, style)))
    }

    #[cfg(not(feature = "object-stores"))]
    pub(super) fn destination(self, origin: &ConfigText, _: &ObjectStores) -> Result<Box<dyn Destination>, Failure> {
        Err(origin.error(self.typed, format!("“web_root”: {WITHOUT_STORES}")))
    }
}

/// Where the ledger is kept between runs, if it travels; `folder` is its folder on this machine.
#[cfg(feature = "object-stores")]
pub(super) fn ledger_home(
    context: &Context<'_>,
    typed: &LedgerTable,
    folder: &Path,
) -> Result<Option<LedgerHome>, Failure> {
    let Some((keep_at, address)) = keep_at(context, typed)? else { return Ok(None) };
    let bucket = context.stores.bucket(&address);
    let bucket = bucket.map_err(|why| context.origin.error(keep_at, format!("“keep_at”: {why}")))?;
    let lease = typed.lease.as_ref().map(|typed| {
        if sql::has_plain_password(typed.as_ref()) {
            let message = "“lease”: it contains a password that anyone can read; put it in the environment and write ${NAME} in its place";
            return Err(context.origin.error(typed, message));
        }
        let lease = expand_with(context.origin, typed, sql::encode_variable)?;
        if !lease.expose().starts_with("postgres://") && !lease.expose().starts_with("postgresql://") {
            return Err(context.origin.error(typed, "“lease”: expected a PostgreSQL database: postgres://…"));
        }
        Ok(lease)
    });
    Ok(Some(LedgerHome { bucket, address, lease: lease.transpose()?, folder: folder.to_owned() }))
}

#[cfg(not(feature = "object-stores"))]
pub(super) fn ledger_home(context: &Context<'_>, typed: &LedgerTable, _: &Path) -> Result<Option<Infallible>, Failure> {
    match keep_at(context, typed)? {
        Some((keep_at, _)) => Err(context.origin.error(keep_at, format!("“keep_at”: {WITHOUT_STORES}"))),
        None => Ok(None),
    }
}

/// The address of the ledger's object, and as typed.
fn keep_at<'t>(
    context: &Context<'_>,
    typed: &'t LedgerTable,
) -> Result<Option<(&'t At<String>, ObjectAddress)>, Failure> {
    let Some(keep_at) = &typed.keep_at else {
        return match &typed.lease {
            Some(lease) => Err(context.origin.error(lease, "“lease” has no effect without “keep_at”")),
            None => Ok(None),
        };
    };
    let expanded = expand(context.origin, keep_at)?;
    let address = ObjectAddress::parse(expanded.expose()).and_then(Result::ok);
    let address = address.filter(|address| !address.key.is_empty() && !address.key.ends_with('/'));
    let address = address.ok_or_else(|| {
        let message = "“keep_at”: expected the address of an object, such as s3://depot/idle-atlas/ledger.gz";
        context.origin.error(keep_at, message)
    })?;
    if context.bucket.is_some_and(|root| root.bucket == address.bucket && address.key.starts_with(&root.key)) {
        let message = "“keep_at”: it is in the web root, where everyone could read it; keep the ledger elsewhere";
        return Err(context.origin.error(keep_at, message));
    }
    Ok(Some((keep_at, address)))
}

/// Rejects a store that nothing names.
pub(super) fn all_used(origin: &ConfigText, typed: &ConfigFile, stores: &ObjectStores) -> Result<(), Failure> {
    let Some(unused) = stores.unused() else { return Ok(()) };
    let table = typed.store.iter().find(|table| *table.name.as_ref() == unused.name);
    let message = format!(
        "“name”: nothing in this configuration is in {}; name it where it is, as in s3://{}/",
        unused.name, unused.name
    );
    Err(table.map_or_else(|| Failure::said(&message), |table| origin.error(&table.name, &message)))
}

impl Context<'_> {
    /// The path of a robots.txt, or its address in the bucket of the web root.
    pub(super) fn robots(&self, typed: &At<String>) -> Result<PathBuf, Failure> {
        let expanded = expand(self.origin, typed)?;
        if self.is_served && expanded.expose() == "ledger:robots.txt" {
            return Ok(Path::new(IN_LEDGER).join("robots.txt"));
        }
        let Some(root) = self.bucket else { return Ok(self.folder.join(expanded.expose())) };
        match ObjectAddress::parse(expanded.expose()) {
            Some(Ok(address)) if address.bucket == root.bucket && address.scheme == root.scheme => {
                Ok(PathBuf::from(address.to_string()))
            }
            _ => {
                let message = format!(
                    "“file”: the web root is in an object store, and so is its robots.txt; expected {}",
                    root.at(&format!("{}robots.txt", root.key))
                );
                Err(self.origin.error(typed, message))
            }
        }
    }
}
