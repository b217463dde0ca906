//! Work that takes a while or waits for a disk, off the threads that answer people.

/// Does it there. A panic of it goes on here.
#[cfg(not(test))]
pub(crate) async fn off_thread<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    match tokio::task::spawn_blocking(work).await {
        Ok(done) => done,
        Err(error) => match error.try_into_panic() {
            Ok(panic) => std::panic::resume_unwind(panic),
            // The server is ending, and nothing waits for this any more.
            Err(_) => std::future::pending().await,
        },
    }
}

/// The same at once: tests in scripted time have one thread, so that they go the same way again.
#[cfg(test)]
pub(crate) async fn off_thread<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    work()
}
