//! Server-Sent Events (HTML Living Standard, section 9.2), read from a response.

use futures_util::stream::{self, Stream, StreamExt};
use reqwest::Response;

use super::ClientError;

/// An event of a stream.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ServerEvent {
    /// Its kind; empty where none is named.
    pub kind: String,
    /// Its id, to resume after it.
    pub id: String,
    /// Its data.
    pub data: String,
}

/// Puts events together from lines.
#[derive(Default)]
struct Reader {
    rest: Vec<u8>,
    event: ServerEvent,
    has_data: bool,
}

impl Reader {
    fn feed(&mut self, bytes: &[u8]) -> Vec<ServerEvent> {
        self.rest.extend_from_slice(bytes);
        let mut events = Vec::new();
        let mut start = 0;
        while let Some(length) = self.rest[start..].iter().position(|byte| *byte == b'\n') {
            let line = String::from_utf8_lossy(&self.rest[start..start + length]).trim_end_matches('\r').to_owned();
            start += length + 1;
            events.extend(self.line(&line));
        }
        self.rest.drain(..start);
        events
    }

    fn line(&mut self, line: &str) -> Option<ServerEvent> {
        if line.is_empty() {
            let id = self.event.id.clone();
            let event = std::mem::replace(&mut self.event, ServerEvent { id, ..ServerEvent::default() });
            return std::mem::take(&mut self.has_data).then_some(event);
        }
        let (field, value) = line.split_once(':').unwrap_or((line, ""));
        let value = value.strip_prefix(' ').unwrap_or(value);
        match field {
            "event" => value.clone_into(&mut self.event.kind),
            "id" => value.clone_into(&mut self.event.id),
            "data" => {
                if self.has_data {
                    self.event.data.push('\n');
                }
                self.has_data = true;
                self.event.data.push_str(value);
            }
            _ => {}
        }
        None
    }
}

/// The events of a response, until its end or the first fault.
pub(super) fn read(response: Response, address: String) -> impl Stream<Item = Result<ServerEvent, ClientError>> {
    let mut reader = Reader::default();
    response.bytes_stream().flat_map(move |chunk| {
        let events: Vec<_> = match chunk {
            Ok(bytes) => reader.feed(&bytes).into_iter().map(Ok).collect(),
            Err(error) => vec![Err(ClientError::Unreachable { address: address.clone(), words: error.to_string() })],
        };
        stream::iter(events)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_put_together_wherever_the_bytes_are_cut() {
        let text = ": hello\n\nevent: log\nid: 5\ndata: a\ndata: b\n\ndata: c\r\n\r\n";
        for cut in 0..text.len() {
            let mut reader = Reader::default();
            let mut events = reader.feed(&text.as_bytes()[..cut]);
            events.extend(reader.feed(&text.as_bytes()[cut..]));
            let event = |kind: &str, data: &str| ServerEvent { kind: kind.into(), id: "5".into(), data: data.into() };
            assert_eq!(events, [event("log", "a\nb"), event("", "c")], "cut at {cut}");
        }
    }
}
