//! Streams that outlive a lost connection: while the server is away, or starts again, they wait for it.

use std::time::Duration;

use futures_util::StreamExt;
use pondrix_api::{Client, ClientError, FollowedRun, LogEnd, LogText, RunDetail, ServerEvent};
use pondrix_core::{RunId, State};

use crate::failure::Failure;

/// How long to wait before a lost connection is tried again, and how often.
const PAUSE: Duration = Duration::from_millis(500);
const MOST_ATTEMPTS: usize = 60;

/// How often a connection was lost since it last brought anything.
#[derive(Default)]
struct Patience(usize);

impl Patience {
    /// Waits for the server; gives up after a while, and at once where it said no.
    async fn lost(&mut self, run: &RunId, error: Option<ClientError>) -> Result<(), Failure> {
        self.0 += 1;
        match error {
            Some(error) if !error.is_transient() || self.0 > MOST_ATTEMPTS => return Err(error.into()),
            None if self.0 > MOST_ATTEMPTS => {
                let next = format!("follow it again: pondrix log '{run}' --follow");
                return Err(Failure::new("the server ends every stream").go_on(next));
            }
            error => tokio::time::sleep(error.map_or(PAUSE, |error| error.pause(PAUSE))).await,
        }
        Ok(())
    }
}

/// Hands on a job's log as it grows, each event as it came and the text in it. Answers how the job ended.
pub(crate) async fn log(
    client: &Client,
    run: &RunId,
    job: &str,
    mut take: impl FnMut(&ServerEvent, &str) -> Result<(), Failure>,
) -> Result<State, Failure> {
    let mut offset = 0;
    let mut patience = Patience::default();
    loop {
        let mut lost = None;
        match client.follow_log(run, job, offset).await {
            Err(error) => lost = Some(error),
            Ok(stream) => {
                let mut stream = std::pin::pin!(stream);
                while let Some(Ok(event)) = stream.next().await {
                    patience = Patience::default();
                    offset = event.id.parse().unwrap_or(offset);
                    if event.kind == "end" {
                        take(&event, "")?;
                        let end: Option<LogEnd> = serde_json::from_str(&event.data).ok();
                        return Ok(end.map_or(State::Lost, |end| end.state));
                    }
                    let text =
                        serde_json::from_str(&event.data).map_or_else(|_| String::new(), |LogText { text }| text);
                    take(&event, &text)?;
                }
            }
        }
        patience.lost(run, lost).await?;
    }
}

/// Hands on a run at every change of it, and answers it when it is over.
pub(crate) async fn run(client: &Client, run: &RunId, mut take: impl FnMut(&RunDetail)) -> Result<RunDetail, Failure> {
    let mut patience = Patience::default();
    loop {
        let mut lost = None;
        match client.follow_run(run).await {
            Err(error) => lost = Some(error),
            Ok(stream) => {
                let mut stream = std::pin::pin!(stream);
                let mut followed = FollowedRun::default();
                while let Some(Ok(event)) = stream.next().await {
                    patience = Patience::default();
                    let told = followed.take(&event).map_err(|error| {
                        Failure::new(format!("the server said something that makes no sense: {error}"))
                    })?;
                    let Some(detail) = told else { continue };
                    take(detail);
                    if detail.summary.state.is_over() {
                        return Ok(detail.clone());
                    }
                }
            }
        }
        patience.lost(run, lost).await?;
    }
}
