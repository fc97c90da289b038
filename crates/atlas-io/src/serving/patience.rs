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
