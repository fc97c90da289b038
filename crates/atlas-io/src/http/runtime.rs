//! Running asynchronous code from synchronous code, until it is done or asked to stop.

use std::io;
use std::time::Duration;

use atlas_store::stop::Stop;
use tokio::runtime::Runtime;

/// How often the stop token is checked.
const GLANCE: Duration = Duration::from_millis(50);

/// Runs a future until it is done or work is asked to stop. In the latter case it returns an error, which the holder of
/// the token knows how to report.
pub(crate) fn block_on<T>(stop: &Stop, future: impl Future<Output = io::Result<T>>) -> io::Result<T> {
    runtime()?.block_on(until_stopped(stop, future))
}

/// A runtime for several calls: a connection works only on the runtime that opened it.
pub(crate) fn runtime() -> io::Result<Runtime> {
    tokio::runtime::Builder::new_current_thread().enable_all().build()
}

/// The result of a future, or an error as soon as work is asked to stop.
pub(crate) async fn until_stopped<T>(stop: &Stop, future: impl Future<Output = io::Result<T>>) -> io::Result<T> {
    let asked = async {
        while !stop.is_asked() {
            tokio::time::sleep(GLANCE).await;
        }
    };
    tokio::select! {
        biased;
        done = future => done,
        () = asked => Err(io::Error::other("stopped")),
    }
}
