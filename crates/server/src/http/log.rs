//! Logs.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;

use axum::body::Body;
use axum::extract::{Path, State};
use axum::http::header::CONTENT_TYPE;
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use futures_util::stream::{self, Stream, StreamExt};
use pondrix_api::{LogEnd, LogText, Problem};
use pondrix_core::{JobKey, State as RunState};
use tokio::sync::Semaphore;
use tokio::time::Instant;

use super::auth::Person;
use super::error::ApiError;
use super::sse::Item;
use super::{App, Shared, runs, sse};
use crate::domain::LiveRun;
use crate::logs::OpenLog;

/// The most that one event, or one read of a file, holds.
const CHUNK: usize = 64 * 1024;

/// A job's log, and the run that it is of. In addresses a job's slash is written `~`.
async fn find(
    app: &App,
    project: &str,
    number: u64,
    job: &str,
) -> Result<(Arc<LiveRun>, JobKey, Arc<OpenLog>), ApiError> {
    let live = runs::find(app, project, number).await?;
    let key = JobKey::from_text(&job.replace('~', "/"));
    if live.now().job(&key).is_none() {
        let jobs: Vec<_> = live.row.plan.jobs().map(|job| job.key.to_string()).collect();
        let run = &live.row.facts.id;
        return Err(ApiError::not_found(format!("job `{key}` in {run}; it has {}", jobs.join(", "))));
    }
    let run = &live.row.facts.id;
    if live.row.has_no_logs {
        let words = format!("the logs of {run} are gone: they were kept for as long as `pondrix retention show` says");
        return Err(ApiError::new(StatusCode::GONE, words));
    }
    let log = app.engine.logs.log(run, &key);
    Ok((live, key, log))
}

/// A job's log as it is now.
#[utoipa::path(get, path = "/api/v1/projects/{project}/runs/{number}/jobs/{job}/log", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path),
           ("job" = String, Path, description = "`STAGE~JOB`")),
    responses((status = 200, content_type = "text/plain", body = String), (status = 401, body = Problem),
              (status = 404, body = Problem), (status = 410, body = Problem)))]
pub(super) async fn whole(
    State(app): Shared,
    _person: Person,
    Path((project, number, job)): Path<(String, u64, String)>,
) -> Result<Response, ApiError> {
    let (_, _, log) = find(&app, &project, number, &job).await?;
    let end = log.length();
    let chunks = stream::unfold(0, move |at| {
        let log = Arc::clone(&log);
        async move {
            let most = usize::try_from(end.saturating_sub(at)).unwrap_or(CHUNK).min(CHUNK);
            match log.read_off(at, most).await {
                Ok(bytes) if bytes.is_empty() => None,
                Ok(bytes) => {
                    let next = at + bytes.len() as u64;
                    Some((Ok(bytes), next))
                }
                Err(error) => Some((Err(error), u64::MAX)),
            }
        }
    });
    Ok(([(CONTENT_TYPE, "text/plain; charset=utf-8")], Body::from_stream(chunks)).into_response())
}

/// How many followers are read for at once.
static READING: Semaphore = Semaphore::const_new(2);
/// How many followers there are.
static FOLLOWERS: AtomicU32 = AtomicU32::new(0);
/// How long a follower who has all of a log rests before it is told more: of a log that grows fast it is told in large
/// pieces, and not each time that it grows.
const FOLLOWER_REST: Duration = Duration::from_millis(50);
/// How long each rests after a piece for each follower that there is: all of them together take a small part of the
/// machine, however many they are, and whoever writes finds it free.
const REST_PER_FOLLOWER: Duration = Duration::from_millis(2);

/// One of those who follow, for as long as it is there.
struct Counted;

impl Counted {
    fn new() -> Self {
        FOLLOWERS.fetch_add(1, Ordering::Relaxed);
        Self
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        FOLLOWERS.fetch_sub(1, Ordering::Relaxed);
    }
}

struct Follower {
    app: Arc<App>,
    live: Arc<LiveRun>,
    key: JobKey,
    log: Arc<OpenLog>,
    offset: u64,
    /// Not before this moment is it told more.
    not_before: Option<Instant>,
    done: bool,
    _counted: Counted,
}

impl Follower {
    fn state(&self) -> RunState {
        self.live.now().job(&self.key).map_or(RunState::Skipped, |job| job.state)
    }

    /// The next event; nothing when there is none to come.
    async fn next(&mut self) -> Option<Item> {
        if self.done {
            return None;
        }
        if let Some(moment) = self.not_before.take() {
            tokio::select! {
                () = tokio::time::sleep_until(moment) => {}
                () = self.app.shutdown.cancelled() => return None,
            }
        }
        let mut growth = self.log.watch();
        let mut changes = self.live.watch();
        loop {
            growth.borrow_and_update();
            changes.borrow_and_update();
            // Asked before reading: what was written before the end is then surely read.
            let state = self.state();
            let bytes = {
                let _turn = READING.acquire().await.ok()?;
                self.log.read_off(self.offset, CHUNK).await.unwrap_or_default()
            };
            let whole = whole_text(&bytes, state.is_over());
            if whole > 0 {
                self.offset += whole as u64;
                let has_all = self.offset == self.log.length();
                let fair = REST_PER_FOLLOWER * FOLLOWERS.load(Ordering::Relaxed);
                self.not_before = Some(Instant::now() + if has_all { fair.max(FOLLOWER_REST) } else { fair });
                let text = String::from_utf8_lossy(&bytes[..whole]).into_owned();
                return Some(Item::new("log", self.offset, &LogText { text }));
            }
            if state.is_over() {
                self.done = true;
                return Some(Item::new("end", self.offset, &LogEnd { state }));
            }
            tokio::select! {
                grown = growth.changed() => grown.ok()?,
                changed = changes.changed() => changed.ok()?,
                () = self.app.shutdown.cancelled() => return None,
            }
        }
    }
}

/// How many of these bytes to send now: up to the last line's end, so that colours and letters are
/// not torn; where there is none, up to the last whole letter.
fn whole_text(bytes: &[u8], is_over: bool) -> usize {
    if is_over && bytes.len() < CHUNK {
        return bytes.len();
    }
    if let Some(newline) = bytes.iter().rposition(|byte| *byte == b'\n') {
        return newline + 1;
    }
    match std::str::from_utf8(bytes) {
        Ok(_) => bytes.len(),
        // What can never become a letter is sent as it is.
        Err(error) if error.error_len().is_some() => bytes.len(),
        Err(error) => error.valid_up_to(),
    }
}

/// A job's log as it grows, as events `log` whose id is the offset after them, in bytes; at the job's
/// end an event `end`. Resumes after the id that is told.
#[utoipa::path(get, path = "/api/v1/projects/{project}/runs/{number}/jobs/{job}/log/stream", tag = "runs",
    params(("project" = String, Path), ("number" = u64, Path),
           ("job" = String, Path, description = "`STAGE~JOB`")),
    responses((status = 200, content_type = "text/event-stream", body = LogText), (status = 401, body = Problem),
              (status = 404, body = Problem), (status = 410, body = Problem)))]
pub(super) async fn stream(
    State(app): Shared,
    person: Person,
    headers: HeaderMap,
    Path((project, number, job)): Path<(String, u64, String)>,
) -> Result<impl IntoResponse, ApiError> {
    let texts = texts(Arc::clone(&app), &project, number, &job, sse::last_id(&headers).unwrap_or(0)).await?;
    sse::respond(app, person, texts.map(Item::alone))
}

/// A job's log as it grows, from an offset on.
pub(super) async fn texts(
    app: Arc<App>,
    project: &str,
    number: u64,
    job: &str,
    offset: u64,
) -> Result<impl Stream<Item = Item> + Send + use<>, ApiError> {
    let (live, key, log) = find(&app, project, number, job).await?;
    let follower = Follower { app, live, key, log, offset, not_before: None, done: false, _counted: Counted::new() };
    Ok(stream::unfold(follower, |mut follower| async move { Some((follower.next().await?, follower)) }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_cut_between_lines_or_letters() {
        assert_eq!(whole_text(b"one\ntw", false), 4);
        assert_eq!(whole_text("prompt: \u{e9}".as_bytes(), false), 10);
        assert_eq!(whole_text(&"prompt: \u{e9}".as_bytes()[..9], false), 8, "half a letter waits");
        assert_eq!(whole_text(&[b'a', 0xff, b'b'], false), 3, "what is no letter does not wait for ever");
        assert_eq!(whole_text(&[0xc3], true), 1);
    }
}
