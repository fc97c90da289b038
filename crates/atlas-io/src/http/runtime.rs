//! Waiting for the network from code that does not, for as long as nobody asks to stop.

use std::io;
use std::time::Duration;

use atlas_store::stop::Stop;

/// How often it is looked whether to stop.
const GLANCE: Duration = Duration::from_millis(50);

/// Runs what waits for the network, until it is done or is asked to stop: an error then, which whoever holds the token knows how to take.
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
