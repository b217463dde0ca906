//! What the story asks and measures.

use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, anyhow};
use futures_util::StreamExt;
use pondrix_api::{Client, FollowedRun, RunDetail};
use pondrix_core::RunId;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::task::JoinHandle;

/// How long anything in the story may take.
pub(super) const PATIENCE: Duration = Duration::from_secs(600);
/// How long the application may take for one answer.
const ANSWER_TIME: Duration = Duration::from_secs(300);
/// How often the application is asked while it changes.
const ASK_EVERY: Duration = Duration::from_millis(50);

/// The body of a page.
pub(super) async fn get(address: SocketAddr, path: &str) -> anyhow::Result<String> {
    let asked = async {
        let mut stream = TcpStream::connect(address).await?;
        stream.write_all(format!("GET {path} HTTP/1.0\r\nHost: {address}\r\n\r\n").as_bytes()).await?;
        let mut text = Vec::new();
        stream.read_to_end(&mut text).await?;
        Ok::<_, std::io::Error>(String::from_utf8_lossy(&text).into_owned())
    };
    let answer = tokio::time::timeout(ANSWER_TIME, asked).await;
    let answer = answer.map_err(|_| anyhow!("no answer within {} s", ANSWER_TIME.as_secs()))?;
    let answer = answer?;
    let (head, body) = answer.split_once("\r\n\r\n").context("no whole answer")?;
    match head.split_whitespace().nth(1) {
        Some("200") => Ok(body.to_owned()),
        _ => Err(anyhow!("{}", head.lines().next().unwrap_or("an empty answer"))),
    }
}

/// Waits for the run of a commit; answers it and how long that took.
pub(super) async fn run_of(client: &Client, project: &str, commit: &str) -> anyhow::Result<(RunId, Duration)> {
    let since = Instant::now();
    let project = project.parse()?;
    while since.elapsed() < PATIENCE {
        let page = client.runs(Some(&project), 5, None).await?;
        if let Some(run) = page.runs.iter().find(|run| run.commit == commit) {
            return Ok((run.run.parse()?, since.elapsed()));
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
    Err(anyhow!("no run of {commit} within {} s", PATIENCE.as_secs()))
}

/// Waits until a run fits; answers it then.
pub(super) async fn until(
    client: &Client,
    run: &RunId,
    fits: impl Fn(&RunDetail) -> bool,
) -> anyhow::Result<RunDetail> {
    let watched = async {
        let mut changes = std::pin::pin!(client.follow_run(run).await?);
        let mut followed = FollowedRun::default();
        while let Some(event) = changes.next().await {
            if let Some(detail) = followed.take(&event?)?.filter(|detail| fits(detail)) {
                return Ok(detail.clone());
            }
        }
        Err(anyhow!("{run} ended before it came to what was waited for"))
    };
    tokio::time::timeout(PATIENCE, watched)
        .await
        .map_err(|_| anyhow!("{run} took longer than {} s", PATIENCE.as_secs()))?
}

/// Waits for the first text of a job's log; answers how long that took.
pub(super) async fn first_text(client: &Client, run: &RunId, job: &str) -> anyhow::Result<Duration> {
    let since = Instant::now();
    let mut stream = std::pin::pin!(client.follow_log(run, job, 0).await?);
    match stream.next().await {
        Some(Ok(event)) if event.kind == "log" => Ok(since.elapsed()),
        other => Err(anyhow!("the log of {job} began with {other:?}")),
    }
}

/// Asks the application again and again, and counts.
pub(super) struct Visitor {
    stop: Arc<AtomicBool>,
    asked: Arc<AtomicU64>,
    task: JoinHandle<anyhow::Result<()>>,
}

impl Visitor {
    pub(super) fn new(address: SocketAddr) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let asked = Arc::new(AtomicU64::new(0));
        let (told, count) = (Arc::clone(&stop), Arc::clone(&asked));
        let task = tokio::spawn(async move {
            while !told.load(Ordering::Relaxed) {
                let number = count.fetch_add(1, Ordering::Relaxed) + 1;
                get(address, "/").await.with_context(|| format!("request {number} to the application"))?;
                tokio::time::sleep(ASK_EVERY).await;
            }
            Ok(())
        });
        Self { stop, asked, task }
    }

    /// How many requests there were, when every one was answered.
    pub(super) async fn leave(self) -> anyhow::Result<u64> {
        self.stop.store(true, Ordering::Relaxed);
        self.task.await??;
        Ok(self.asked.load(Ordering::Relaxed))
    }
}

/// How many processes of this machine have this word in their command line.
pub(super) fn processes_with(word: &str) -> usize {
    let entries = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let has = |entry: &std::fs::DirEntry| {
        let line = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
        line.split(|byte| *byte == 0).any(|argument| argument == word.as_bytes())
    };
    entries.filter(has).count()
}
