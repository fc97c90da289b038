//! Running asynchronous code from synchronous code, until it is done or asked to stop.

use std::io;
use std::time::Duration;

use atlas_store::stop::Stop;

/// How often the stop token is checked.
const GLANCE: Duration = Duration::from_millis(50);

/// Runs a future until it is done or work is asked to stop. In the latter case it returns an error, which the holder of
/// the token knows how to report.
pub(crate) fn block_on<T>(stop: &Stop, future: impl Future<Output = io::Result<T>>) -> io::Result<T> {
    tokio::runtime::Builder::new_current_thread().enable_all().build()?.block_on(async {
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
    })
}
