//! Connections that neither read nor write are closed.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::time::{Instant, Sleep, sleep};

/// A connection that ends when nothing has moved for some time.
pub(super) struct Patient<S> {
    stream: S,
    patience: Duration,
    until: Pin<Box<Sleep>>,
}

impl<S> Patient<S> {
    pub(super) fn new(stream: S, patience: Duration) -> Self {
        Self { stream, patience, until: Box::pin(sleep(patience)) }
    }

    /// What is pending, unless patience is at its end; anything else begins it anew.
    fn or_give_up<T>(&mut self, poll: Poll<io::Result<T>>, context: &mut Context<'_>) -> Poll<io::Result<T>> {
        if poll.is_ready() {
            let until = Instant::now() + self.patience;
            self.until.as_mut().reset(until);
            return poll;
        }
        match self.until.as_mut().poll(context) {
            Poll::Ready(()) => Poll::Ready(Err(io::ErrorKind::TimedOut.into())),
            Poll::Pending => Poll::Pending,
        }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Patient<S> {
    fn poll_read(self: Pin<&mut Self>, context: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let patient = self.get_mut();
        let poll = Pin::new(&mut patient.stream).poll_read(context, buffer);
        patient.or_give_up(poll, context)
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Patient<S> {
    fn poll_write(self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        let patient = self.get_mut();
        let poll = Pin::new(&mut patient.stream).poll_write(context, bytes);
        patient.or_give_up(poll, context)
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        context: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let patient = self.get_mut();
        let poll = Pin::new(&mut patient.stream).poll_write_vectored(context, slices);
        patient.or_give_up(poll, context)
    }

    fn is_write_vectored(&self) -> bool {
        self.stream.is_write_vectored()
    }

    fn poll_flush(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let patient = self.get_mut();
        let poll = Pin::new(&mut patient.stream).poll_flush(context);
        patient.or_give_up(poll, context)
    }

    fn poll_shutdown(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        let patient = self.get_mut();
        let poll = Pin::new(&mut patient.stream).poll_shutdown(context);
        patient.or_give_up(poll, context)
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::{AsyncReadExt, AsyncWriteExt, duplex};

    use super::*;

    const PATIENCE: Duration = Duration::from_millis(200);

    fn run(test: impl Future<Output = ()>) {
        tokio::runtime::Builder::new_current_thread().enable_time().build().unwrap().block_on(test);
    }

    #[test]
    fn a_client_that_reads_nothing_is_given_up() {
        run(async {
            let (mine, _theirs) = duplex(64);
            let mut patient = Patient::new(mine, PATIENCE);
            let error = patient.write_all(&[0; 1_000]).await.unwrap_err();
            assert_eq!(error.kind(), io::ErrorKind::TimedOut);
        });
    }

    #[test]
    fn a_client_that_says_nothing_is_given_up() {
        run(async {
            let (mine, _theirs) = duplex(64);
            let error = Patient::new(mine, PATIENCE).read(&mut [0; 8]).await.unwrap_err();
            assert_eq!(error.kind(), io::ErrorKind::TimedOut);
        });
    }

    #[test]
    fn a_client_that_reads_slowly_gets_everything() {
        run(async {
            let (mine, mut theirs) = duplex(64);
            let mut patient = Patient::new(mine, PATIENCE * 25);
            let reading = async {
                let mut read = 0;
                while read < 1_000 {
                    sleep(PATIENCE / 10).await;
                    read += theirs.read(&mut [0; 64]).await.unwrap();
                }
            };
            let (written, ()) = tokio::join!(patient.write_all(&[0; 1_000]), reading);
            written.unwrap();
        });
    }
}
