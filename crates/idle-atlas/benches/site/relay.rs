//! A relay before a server, which tells when the server sent its last rows: that is when gathering ends.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

/// Answers shorter than this are not rows but what ends a connection.
const ROWS: usize = 1024;

/// Passes bytes on between clients and a server on loopback.
pub struct Relay {
    pub port: u16,
    begun: Instant,
    /// When the last rows came, in microseconds since the relay began.
    last: Arc<AtomicU64>,
}

impl Relay {
    /// Listens on a free port, until the process ends.
    pub fn before(host: String, port: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a free port");
        let relay =
            Self { port: listener.local_addr().expect("a port").port(), begun: Instant::now(), last: Arc::default() };
        let (begun, last) = (relay.begun, Arc::clone(&relay.last));
        thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(server) = TcpStream::connect((host.as_str(), port)) else { continue };
                let (client_reads, server_reads) = (client.try_clone(), server.try_clone());
                let last = Arc::clone(&last);
                thread::spawn(move || pass(client_reads.expect("a socket"), server, |_| {}));
                thread::spawn(move || {
                    pass(server_reads.expect("a socket"), client, |length| {
                        if length >= ROWS {
                            last.store(begun.elapsed().as_micros() as u64, Ordering::Relaxed);
                        }
                    })
                });
            }
        });
        relay
    }

    /// How long after this instant the last rows came.
    pub fn last_since(&self, start: Instant) -> Duration {
        (self.begun + Duration::from_micros(self.last.load(Ordering::Relaxed))).saturating_duration_since(start)
    }
}

fn pass(mut from: TcpStream, mut to: TcpStream, seen: impl Fn(usize)) {
    let mut buffer = vec![0; 256 * 1024];
    while let Ok(length @ 1..) = from.read(&mut buffer) {
        if to.write_all(&buffer[..length]).is_err() {
            break;
        }
        seen(length);
    }
    let _ = to.shutdown(Shutdown::Write);
}
