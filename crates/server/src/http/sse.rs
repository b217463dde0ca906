//! Streams of events (Server-Sent Events, HTML Living Standard, section 9.2).

use std::convert::Infallible;
use std::time::Duration;

use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures_util::Stream;
use serde::Serialize;

use super::auth::header;

/// How often a silent stream says that it is alive.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// An event with an id to resume after.
pub(super) fn event(kind: &str, id: impl ToString, data: &impl Serialize) -> Event {
    let event = Event::default().event(kind).id(id.to_string());
    event.json_data(data).unwrap_or_else(|_| Event::default().comment("an event could not be written"))
}

/// A stream as a response.
pub(super) fn respond<S>(stream: S) -> Sse<impl Stream<Item = Result<Event, Infallible>>>
where
    S: Stream<Item = Event> + Send + 'static,
{
    use futures_util::StreamExt as _;
    Sse::new(stream.map(Ok)).keep_alive(KeepAlive::new().interval(KEEP_ALIVE))
}

/// The id of the last event that the follower has.
pub(super) fn last_id(headers: &HeaderMap) -> Option<u64> {
    header(headers, "last-event-id").and_then(|id| id.trim().parse().ok())
}
