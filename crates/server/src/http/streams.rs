//! Several streams in one connection, of which a browser has only a few.

use std::sync::Arc;

use axum::extract::{Query, State};
use axum::response::IntoResponse;
use futures_util::StreamExt;
use futures_util::stream::{self, BoxStream};
use pondrix_api::{Problem, StreamEvent};

use super::auth::Person;
use super::error::ApiError;
use super::sse::Item;
use super::{App, Shared, log, projects, runs, sse};

/// The most streams in one connection.
const MOST: usize = 200;

/// What a stream is of.
#[derive(Debug, PartialEq, Eq)]
enum Topic<'t> {
    Runs,
    Run { project: &'t str, number: u64 },
    Log { project: &'t str, number: u64, job: &'t str },
}

impl<'t> Topic<'t> {
    /// A topic, and what it is resumed after.
    fn read(text: &'t str) -> Option<(Self, Option<u64>)> {
        let (topic, after) = text.rsplit_once('@')?;
        let after = if after.is_empty() { None } else { Some(after.parse().ok()?) };
        // A job may have a slash in a value of its matrix.
        let parts: Vec<_> = topic.splitn(4, '/').collect();
        let topic = match parts[..] {
            ["runs"] => Self::Runs,
            ["run", project, number] => Self::Run { project, number: number.parse().ok()? },
            ["log", project, number, job] => Self::Log { project, number: number.parse().ok()?, job },
            _ => return None,
        };
        Some((topic, after))
    }
}

async fn open(app: &Arc<App>, person: &Person, text: &str) -> Result<BoxStream<'static, Item>, ApiError> {
    let (topic, after) = Topic::read(text).ok_or_else(|| {
        let forms = "`runs@AFTER`, `run/PROJECT/NUMBER@AFTER` or `log/PROJECT/NUMBER/STAGE~JOB@AFTER`";
        ApiError::bad(format!("`{text}` is no stream: it must be {forms}, where AFTER may be empty"))
    })?;
    if let Topic::Run { project, .. } | Topic::Log { project, .. } = &topic {
        projects::seen(app, person, project).await?;
    }
    Ok(match topic {
        Topic::Runs => {
            let (newest, changes) = runs::changes(Arc::clone(app), person.clone(), after).await?;
            // Who has seen nothing yet can be resumed too.
            let began = after.is_none().then(|| Item::new("began", newest, &()));
            stream::iter(began).chain(changes).boxed()
        }
        Topic::Run { project, number } => runs::states(Arc::clone(app), project, number, after).await?.boxed(),
        Topic::Log { project, number, job } => {
            log::texts(Arc::clone(app), project, number, job, after.unwrap_or(0)).await?.boxed()
        }
    })
}

/// Several streams in one: each pair of the query is a key of the follower's own and a stream, `runs@AFTER`,
/// `run/PROJECT/NUMBER@AFTER` or `log/PROJECT/NUMBER/STAGE~JOB@AFTER`, where AFTER is the id of the last event that
/// was seen of it, or nothing. Events carry the key. A stream of all runs that is resumed after nothing first has an
/// event `began`, to be resumed after. A stream that cannot be followed is one event `refused`; the connection stays until the follower leaves.
#[utoipa::path(get, path = "/api/v1/stream", tag = "runs",
    params(("key" = Option<String>, Query, description = "A stream, under whatever key the follower gives it")),
    responses((status = 200, content_type = "text/event-stream", body = StreamEvent), (status = 401, body = Problem)))]
pub(super) async fn follow(
    State(app): Shared,
    person: Person,
    Query(pairs): Query<Vec<(String, String)>>,
) -> Result<impl IntoResponse, ApiError> {
    if pairs.len() > MOST {
        return Err(ApiError::bad(format!("one connection carries at most {MOST} streams")));
    }
    let mut all = Vec::new();
    for (key, text) in pairs {
        let stream = match open(&app, &person, &text).await {
            Ok(stream) => stream,
            // Asked again it may be well.
            Err(error) if error.is_servers() => return Err(error),
            Err(error) => stream::iter([Item::new("refused", "", &error.into_problem())]).boxed(),
        };
        all.push(stream.map(move |item| item.shared(&key)).boxed());
    }
    let shutdown = app.shutdown.clone();
    let stays = stream::pending().boxed();
    all.push(stays);
    sse::respond(app, person, stream::select_all(all).take_until(shutdown.cancelled_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stream_is_named_by_what_it_is_of_and_what_it_is_resumed_after() {
        assert_eq!(Topic::read("runs@"), Some((Topic::Runs, None)));
        assert_eq!(Topic::read("run/desk/3@17"), Some((Topic::Run { project: "desk", number: 3 }, Some(17))));
        let log = Topic::Log { project: "desk", number: 3, job: "verify~unit:a@b" };
        assert_eq!(Topic::read("log/desk/3/verify~unit:a@b@0"), Some((log, Some(0))));
        let log = Topic::Log { project: "desk", number: 3, job: "make~app:linux/arm64" };
        assert_eq!(Topic::read("log/desk/3/make~app:linux/arm64@"), Some((log, None)));
        for odd in ["", "runs", "run/desk@", "run/desk/x@", "run/desk/3/x@", "log/desk/3@", "runs@x", "runs/1@"] {
            assert_eq!(Topic::read(odd), None, "{odd}");
        }
    }
}
