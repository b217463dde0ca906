//! Streams of events (Server-Sent Events, HTML Living Standard, section 9.2).

use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;

use axum::http::HeaderMap;
use axum::response::Sse;
use axum::response::sse::{Event, KeepAlive};
use futures_util::Stream;
use pondrix_api::StreamEvent;
use serde::Serialize;
use serde_json::value::RawValue;

use super::App;
use super::auth::{Person, header};
use super::error::ApiError;
use super::limits::Kind;

/// How often a silent stream says that it is alive.
const KEEP_ALIVE: Duration = Duration::from_secs(15);

/// An event, and what to resume after.
#[derive(Clone, Debug)]
pub(super) struct Item {
    kind: &'static str,
    id: String,
    /// JSON, which has no line breaks of its own.
    data: Box<RawValue>,
}

impl Item {
    pub(super) fn new(kind: &'static str, id: impl ToString, data: &impl Serialize) -> Self {
        // What is told is made of names, numbers and texts.
        let data = serde_json::value::to_raw_value(data).unwrap_or_else(|_| RawValue::NULL.to_owned());
        Self { kind, id: id.to_string(), data }
    }

    /// The event of a stream of its own.
    pub(super) fn alone(self) -> Event {
        Event::default().event(self.kind).id(self.id).data(self.data.get())
    }

    /// The event of a stream that others share: `key` tells whose it is.
    pub(super) fn shared(self, key: &str) -> Event {
        let event = StreamEvent { key: key.to_owned(), kind: self.kind.to_owned(), id: self.id, data: self.data };
        match serde_json::to_string(&event) {
            Ok(data) => Event::default().data(data),
            Err(_) => Event::default().comment("an event could not be written"),
        }
    }
}

/// A stream as a response to a person. It ends when what they may do changes: whoever asks again is asked anew.
pub(super) fn respond<S>(
    app: Arc<App>,
    person: Person,
    stream: S,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, ApiError>
where
    S: Stream<Item = Event> + Send + 'static,
{
    use futures_util::StreamExt as _;
    let open = app.limits.open(person.shown.id, Kind::Stream)?;
    let stream = stream.take_until(person.until_changed(app));
    let stream = stream.map(move |event| {
        let _is_open = &open;
        Ok(event)
    });
    Ok(Sse::new(stream).keep_alive(KeepAlive::new().interval(KEEP_ALIVE)))
}

/// The id of the last event that the follower has.
pub(super) fn last_id(headers: &HeaderMap) -> Option<u64> {
    header(headers, "last-event-id").and_then(|id| id.trim().parse().ok())
}
