//! A ledger that travels: fetched before a run, and put back after it, so that any machine can do the next one.
//!
//! What engines answer is put back as it comes, as an object of its own, so that a run that is killed tells nothing twice.

use std::fs::{self, File};
use std::io::{self, BufReader, Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use atlas_core::fingerprint;
use atlas_store::disk;
use atlas_store::error::StoreError;
use atlas_store::ledger::{self, Ledger};
use atlas_store::stop::Stop;
use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use tempfile::NamedTempFile;

use super::address::ObjectAddress;
use super::bucket::{Bucket, PutHow};
use super::lease::{self, Lease, NoLease};
use super::reader::ObjectFile;
use crate::secret::Secret;

/// The name of the file that says which state of the ledger is in a folder.
const STATE: &str = "travelled";
/// How long to wait for a run on another machine: longer than the lease of one that was killed.
const PATIENCE: Duration = Duration::from_secs(lease::LEASE_SECONDS + 15);

/// Where a ledger is kept between runs.
#[derive(Debug, Clone)]
pub struct LedgerHome {
    /// The bucket.
    pub bucket: Arc<Bucket>,
    /// The address of its object.
    pub address: ObjectAddress,
    /// The PostgreSQL database whose advisory lock is the lease, where the store heeds no conditions.
    pub lease: Option<Secret>,
    /// The folder of the ledger on this machine.
    pub folder: PathBuf,
}

/// A state of a ledger: as in its home, and on this machine.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Travelled {
    /// The entity tag of its object.
    tag: String,
    /// A fingerprint of the database on this machine when it was fetched or put back.
    print: u64,
}

/// A ledger that is here for one run.
pub struct Trip {
    home: LedgerHome,
    lease: Option<Lease>,
    state: Mutex<Travelled>,
    /// Whether there are answers beside the ledger in its home.
    has_answers: Arc<AtomicBool>,
    stop: Stop,
}

impl LedgerHome {
    /// Fetches the ledger for a command that only looks. Nothing is put back.
    ///
    /// # Errors
    ///
    /// Returns a message if it cannot be fetched.
    pub fn look(&self, stop: &Stop) -> Result<Trip, String> {
        self.begin(None, stop)
    }

    /// Takes the lease and fetches the ledger. `told` is called once if another machine holds the lease.
    ///
    /// # Errors
    ///
    /// Returns a message if there is no lease or the ledger cannot be fetched.
    pub fn take(&self, stop: &Stop, told: &dyn Fn(&str)) -> Result<Trip, String> {
        let key = format!("{}.lease", self.address.key);
        let taken = match &self.lease {
            Some(database) => self.take_by_database(database, stop, told),
            None => lease::take(&self.bucket, &key, PATIENCE, stop, told),
        };
        let lease = taken.map_err(|why| match why {
            NoLease::Held(host) => format!(
                "another idle-atlas works with this ledger, on {host}; run this again when it has ended. If it was killed, its lease ends by itself within {} seconds",
                lease::LEASE_SECONDS
            ),
            NoLease::NoConditions => format!(
                "the store {} takes the condition that there is no object yet, and does not heed it, so two runs could work at once; name a PostgreSQL database for the lease: [ledger] lease = \"postgres://…\"",
                self.bucket.shown()
            ),
            NoLease::Failed(error) => format!("no lease can be taken at {}: {error}", self.address),
        })?;
        self.begin(Some(lease), stop)
    }

    #[cfg(feature = "sql-servers")]
    fn take_by_database(&self, database: &Secret, stop: &Stop, told: &dyn Fn(&str)) -> Result<Lease, NoLease> {
        super::advisory_lock::take(database.expose(), &self.address.to_string(), PATIENCE, stop, told)
    }

    #[cfg(not(feature = "sql-servers"))]
    fn take_by_database(&self, _: &Secret, _: &Stop, _: &dyn Fn(&str)) -> Result<Lease, NoLease> {
        let why = "this idle-atlas was built without database servers; build it with the cargo feature “sql-servers”";
        Err(NoLease::Failed(io::Error::other(why)))
    }

    fn begin(&self, lease: Option<Lease>, stop: &Stop) -> Result<Trip, String> {
        let failed = |error: io::Error| format!("the ledger cannot be fetched from {}: {error}", self.address);
        let trip = Trip {
            home: self.clone(),
            lease,
            state: Mutex::default(),
            has_answers: Arc::default(),
            stop: stop.clone(),
        };
        trip.fetch().map_err(failed)?;
        trip.take_answers().map_err(|error| format!("{}: {error}", self.address))?;
        Ok(trip)
    }

    fn answers(&self) -> String {
        format!("{}.answers", self.address.key)
    }
}

impl Trip {
    /// Fetches the ledger, unless what is here comes from there.
    fn fetch(&self) -> io::Result<()> {
        let LedgerHome { bucket, address, folder, .. } = &self.home;
        let known = Travelled::read(folder);
        let Some(there) = bucket.head(&address.key, &self.stop)? else {
            // It begins here, or what is here goes there.
            return Ok(());
        };
        let tag = there.etag.unwrap_or_default();
        if known.as_ref().is_some_and(|known| known.tag == tag) && ledger::database(folder).exists() {
            *self.state() = known.unwrap_or_default();
            return Ok(());
        }
        fs::create_dir_all(folder)?;
        let object = ObjectFile { bucket: Arc::clone(bucket), address: address.clone() };
        let mut unpacked = GzDecoder::new(BufReader::new(object.open(&self.stop)?));
        let mut fetched = NamedTempFile::new_in(folder)?;
        io::copy(&mut unpacked, &mut fetched)?;
        fetched.as_file().sync_all()?;
        // A journal belongs to the database that it lies beside.
        remove(&journal(folder))?;
        fetched.persist(ledger::database(folder)).map_err(|error| error.error)?;
        let state = Travelled { tag, print: print(folder)? };
        state.write(folder)?;
        *self.state() = state;
        Ok(())
    }

    /// Takes over what engines answered to a run that was killed, if it began with this ledger.
    fn take_answers(&self) -> Result<(), StoreError> {
        let LedgerHome { bucket, folder, .. } = &self.home;
        let key = self.home.answers();
        let read = bucket.whole(&key, &self.stop).map_err(StoreError::io("cannot read", &key))?;
        let Some((bytes, _)) = read else { return Ok(()) };
        self.has_answers.store(true, Ordering::Relaxed);
        let text = String::from_utf8_lossy(&bytes);
        let Some((tag, answers)) = text.split_once('\n').filter(|(tag, _)| *tag == self.state().tag) else {
            return Ok(());
        };
        if tag.is_empty() || !ledger::database(folder).exists() {
            return Ok(());
        }
        ledger::open(folder)?.take_answers(answers.as_bytes())
    }

    fn state(&self) -> std::sync::MutexGuard<'_, Travelled> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Puts the ledger back, if it has changed. No transaction may be under way.
    ///
    /// # Errors
    ///
    /// Returns a message if the lease was lost, or the ledger cannot be put back.
    pub fn put_back(&self) -> Result<(), String> {
        let LedgerHome { bucket, address, folder, .. } = &self.home;
        let Some(lease) = &self.lease else { return Ok(()) };
        let failed = |error: io::Error| format!("the ledger cannot be put back to {address}: {error}");
        if !ledger::database(folder).exists() {
            return Ok(());
        }
        let print = print(folder).map_err(failed)?;
        let is_there = {
            let state = self.state();
            !state.tag.is_empty() && state.print == print
        };
        if is_there {
            return Ok(());
        }
        let mut packed = tempfile::tempfile().map_err(failed)?;
        let mut pack = || {
            let mut packing = GzEncoder::new(&mut packed, Compression::fast());
            io::copy(&mut BufReader::new(File::open(ledger::database(folder))?), &mut packing)?;
            packing.finish()?.seek(SeekFrom::Start(0)).map(drop)
        };
        pack().map_err(failed)?;
        if lease.is_lost() {
            return Err(format!(
                "the lease of {address} was lost, and another run may have begun: this one puts nothing back"
            ));
        }
        let how = PutHow { content_type: Some("application/gzip"), ..PutHow::default() };
        // Asked to stop or not, what was done is to be known.
        let tag = bucket.put_file(&address.key, packed, &how, &Stop::default()).map_err(failed)?;
        let state = Travelled { tag: tag.unwrap_or_default(), print };
        state.write(folder).map_err(failed)?;
        *self.state() = state;
        match self.has_answers.swap(false, Ordering::Relaxed) {
            true => bucket.remove(&self.home.answers(), &Stop::default()).map_err(failed),
            false => Ok(()),
        }
    }

    /// Puts back what engines answer from now on, after each commit to `ledger`. The ledger is put back first, so that the
    /// answers belong to a state that is known there.
    ///
    /// # Errors
    ///
    /// Returns a message if the ledger cannot be put back.
    pub fn keep_answers(&self, ledger: &mut dyn Ledger) -> Result<(), String> {
        if self.lease.is_none() {
            return Ok(());
        }
        self.put_back()?;
        let (home, tag) = (self.home.clone(), self.state().tag.clone());
        let has_answers = Arc::clone(&self.has_answers);
        let last = ledger.last_answer().map_err(|error| error.to_string())?;
        let before = Mutex::new(ledger.answers_after(last).map_err(|error| error.to_string())?);
        ledger.after_commit(Box::new(move || {
            let Some(ledger) = ledger::open_for_reading(&home.folder)? else { return Ok(()) };
            let answers = ledger.answers_after(last)?;
            let mut before = before.lock().unwrap_or_else(PoisonError::into_inner);
            if *before == answers {
                return Ok(());
            }
            let bytes = [tag.as_bytes(), b"\n", &answers].concat();
            has_answers.store(true, Ordering::Relaxed);
            let put = home.bucket.put(&home.answers(), bytes.into(), &PutHow::default(), &Stop::default());
            put.map_err(StoreError::io("cannot put back the answers of engines to", home.answers()))?;
            *before = answers;
            Ok(())
        }));
        Ok(())
    }
}

impl Travelled {
    fn read(folder: &Path) -> Option<Self> {
        let text = fs::read_to_string(folder.join(STATE)).ok()?;
        let (tag, print) = text.trim_end().rsplit_once(' ')?;
        Some(Self { tag: tag.to_owned(), print: u64::from_str_radix(print, 16).ok()? })
    }

    fn write(&self, folder: &Path) -> io::Result<()> {
        let Self { tag, print } = self;
        let written = disk::replace(&folder.join(STATE), format!("{tag} {print:016x}\n").as_bytes());
        written.map(drop).map_err(|error| io::Error::other(error.to_string()))
    }
}

/// A fingerprint of the state of the database: its size, and the header, which counts its changes (the file format of
/// SQLite, 1.3).
fn print(folder: &Path) -> io::Result<u64> {
    let mut file = File::open(ledger::database(folder))?;
    let mut header = [0; 100];
    file.read_exact(&mut header)?;
    Ok(fingerprint::raw(&header, file.metadata()?.len()))
}

fn journal(folder: &Path) -> PathBuf {
    let mut path = ledger::database(folder).into_os_string();
    path.push("-journal");
    path.into()
}

fn remove(path: &Path) -> io::Result<()> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}
