//! `pondrix audit`

use std::fs::File;
use std::io::{BufRead, BufReader, Write};
use std::path::PathBuf;
use std::pin::pin;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use futures_util::StreamExt;
use pondrix_api::{AuditEntry, AuditKeep, AuditProof, AuditWanted};
use pondrix_core::audit::{AuditResult, Link, Place};
use pondrix_core::retention::Age;
use pondrix_core::{Duration, Time};

use crate::cli::Global;
use crate::failure::{Failure, Outcome};
use crate::{output, settings};

/// The audit: who did what to what, from where, and with what result.
///
/// It has every change, sign-in and refusal, every answer to an approval, every secret that a job was given, every rollout,
/// and every token that is used from a new address. It is only added to, and each entry holds the digest of the one before.
#[derive(Debug, Subcommand)]
pub(crate) enum Audit {
    List(List),
    Export(Export),
    Verify(Verify),
    Keep(Keep),
}

/// Which entries.
#[derive(Debug, Args)]
struct Which {
    /// Only what this one did: a person, `the server`, `hook of PROJECT`, `nobody`.
    #[arg(long, value_name = "NAME")]
    who: Option<String>,
    /// Only in this project.
    #[arg(long, value_name = "PROJECT")]
    project: Option<String>,
    /// Only what begins with these words: `secret`, or `"secret set"`.
    #[arg(long, value_name = "WORDS")]
    action: Option<String>,
    /// Only what was done, refused, or failed.
    #[arg(long)]
    result: Option<AuditResult>,
    /// Only from this address.
    #[arg(long, value_name = "ADDRESS")]
    from: Option<String>,
    /// Only from a moment on: so long ago (2h, 30d), or a day or moment in UTC (2026-11-27, 2026-11-27T06:30:00Z).
    #[arg(long, value_name = "WHEN", value_parser = moment)]
    since: Option<Time>,
    /// Only before a moment.
    #[arg(long, value_name = "WHEN", value_parser = moment)]
    until: Option<Time>,
}

/// List what was done, the newest first.
#[derive(Debug, Args)]
pub(crate) struct List {
    #[command(flatten)]
    which: Which,
    /// How many entries at the most.
    #[arg(long, default_value_t = 30, value_name = "COUNT")]
    limit: usize,
    /// Only entries with a smaller number, as the last line of a list says.
    #[arg(long, value_name = "NUMBER")]
    before: Option<u64>,
}

/// Write entries as lines of JSON, the oldest first. The `chain` of each is the SHA-256 of its line without that last field.
#[derive(Debug, Args)]
pub(crate) struct Export {
    #[command(flatten)]
    which: Which,
    /// The file to write; else they are printed.
    #[arg(long, value_name = "FILE")]
    into: Option<PathBuf>,
}

/// Prove that every entry is as it was written, and that none is missing. Says where the chain is broken first.
#[derive(Debug, Args)]
pub(crate) struct Verify {
    /// Prove also that an entry is the one that was noted: what an earlier proof printed, NUMBER:DIGEST. Whoever can write
    /// the server's files could make the whole chain anew, but not one that has this entry.
    #[arg(long, value_name = "PLACE")]
    at: Option<Place>,
    /// Look at a file that `audit export` has written, whole, instead of asking the server.
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

/// Say how long entries are kept: as in 400d, or forever, which is what is usual.
#[derive(Debug, Args)]
pub(crate) struct Keep {
    age: Age,
}

/// A moment, as people write it.
fn moment(text: &str) -> Result<Time, String> {
    if let Ok(long) = text.parse::<Duration>() {
        return Ok(output::now().plus_millis(-i64::from(long.seconds()) * 1000));
    }
    let of_day = format!("{text}T00:00:00Z");
    let read = |text: &str| serde_json::from_value::<Time>(serde_json::Value::String(text.to_owned())).ok();
    read(text).or_else(|| read(&of_day)).ok_or_else(|| {
        "write how long ago, as in 2h or 30d, or a day or moment in UTC, as in 2026-11-27 or 2026-11-27T06:30:00Z"
            .to_owned()
    })
}

impl Which {
    fn wanted(self) -> AuditWanted {
        let Self { who, project, action, result, from, since, until } = self;
        AuditWanted { who, project, action, result: result.map(|result| result.word().to_owned()), from, since, until }
    }
}

fn row(entry: &AuditEntry) -> Vec<String> {
    let of = match (&entry.project, entry.target.is_empty()) {
        (Some(project), false) => format!("{} in {project}", entry.target),
        (Some(project), true) => project.clone(),
        (None, _) => entry.target.clone(),
    };
    let result = match entry.result {
        AuditResult::Done => entry.result.to_string(),
        AuditResult::Refused | AuditResult::Failed => output::strong(entry.result.word()),
    };
    vec![
        entry.number.to_string(),
        output::ago(entry.at),
        output::plain(&entry.who),
        output::plain(&entry.action),
        output::cut(&output::plain(&of), 44),
        result,
        output::plain(entry.from.as_deref().unwrap_or_default()),
        output::cut(&output::plain(&entry.words), 60),
    ]
}

impl Audit {
    pub(crate) async fn run(self, global: &Global) -> Outcome {
        match self {
            Self::List(list) => list.run(global).await,
            Self::Export(export) => export.run(global).await,
            Self::Verify(verify) => verify.run(global).await,
            Self::Keep(Keep { age }) => {
                settings::client(global)?.keep_audit(&AuditKeep { keep: age }).await?;
                if !global.json {
                    output::line(&match age {
                        Age::For(long) => format!("entries of the audit are kept for {long}"),
                        Age::Forever => "entries of the audit are kept for ever".to_owned(),
                    });
                }
                Ok(ExitCode::SUCCESS)
            }
        }
    }
}

impl List {
    async fn run(self, global: &Global) -> Outcome {
        let page = settings::client(global)?.audit(&self.which.wanted(), self.before, self.limit).await?;
        if global.json {
            output::json(&page)?;
            return Ok(ExitCode::SUCCESS);
        }
        if page.entries.is_empty() {
            output::line("nothing that is asked for was done in what you administer");
            return Ok(ExitCode::SUCCESS);
        }
        let rows: Vec<_> = page.entries.iter().map(row).collect();
        output::table(&["NUMBER", "WHEN", "WHO", "WHAT", "WHICH", "RESULT", "FROM", "MORE"], &rows);
        if let Some(next) = page.next {
            output::line(&format!("older ones: --before {next}"));
        }
        Ok(ExitCode::SUCCESS)
    }
}

impl Export {
    async fn run(self, global: &Global) -> Outcome {
        let client = settings::client(global)?;
        let wanted = self.which.wanted();
        let pieces = client.export_audit(&wanted).await?;
        let mut pieces = pin!(pieces);
        let named = |path: &PathBuf| format!("{}", path.display());
        let mut into: Box<dyn Write> = match &self.into {
            Some(path) => {
                Box::new(File::create(path).map_err(|error| Failure::new(format!("{}: {error}", named(path))))?)
            }
            None => Box::new(std::io::stdout()),
        };
        let mut lines = 0;
        while let Some(piece) = pieces.next().await {
            let piece = piece.map_err(|error| Failure::from(error).advise("what came is not all of it; ask again"))?;
            lines += piece.as_ref().iter().filter(|byte| **byte == b'\n').count();
            into.write_all(piece.as_ref())?;
        }
        into.flush()?;
        if let Some(path) = &self.into {
            output::line(&format!("{}: {lines} entries", output::strong(&named(path))));
        }
        Ok(ExitCode::SUCCESS)
    }
}

/// Proves a file of lines, of which each is to follow the one before; and that a place which was noted is one of theirs.
fn prove(lines: impl BufRead, at: Option<&Place>) -> Result<AuditProof, Failure> {
    let mut noted = at;
    let mut place: Option<(Place, Place)> = None;
    let mut broken = None;
    for (at_line, line) in (1..).zip(lines.lines()) {
        let line = line?;
        let link: Link = serde_json::from_str(&line).map_err(|_| {
            Failure::new(format!("line {at_line} is no entry of an audit, as `audit export` writes them"))
        })?;
        // What was before the first line is not in the file.
        let before = || Place { number: link.entry.number.saturating_sub(1), chain: link.entry.after.clone() };
        let (_, end) = place.get_or_insert_with(|| (before(), before()));
        if let Err(found) = end.advance(&link) {
            broken = Some(format!("{found} (line {at_line})"));
            break;
        }
        if let Some(at) = noted.take_if(|at| at.number == end.number)
            && at != end
        {
            let words = "is another one than was noted: the chain was made anew";
            broken = Some(format!("entry {} {words} (line {at_line})", at.number));
            break;
        }
    }
    if let (Some(at), None) = (noted, &broken) {
        let last = place.as_ref().map_or(0, |(_, end)| end.number);
        broken = Some(format!("entry {} is not there: the last one is {last}", at.number));
    }
    let (start, end) = place.unwrap_or_else(|| (Place::start(), Place::start()));
    Ok(AuditProof { entries: end.number - start.number, start, end, broken })
}

impl Verify {
    async fn run(self, global: &Global) -> Outcome {
        let proof = match &self.file {
            Some(path) => {
                let told = |error: std::io::Error| Failure::new(format!("{}: {error}", path.display()));
                prove(BufReader::new(File::open(path).map_err(told)?), self.at.as_ref())?
            }
            None => {
                let at = self.at.as_ref().map(ToString::to_string);
                settings::client(global)?.prove_audit(at.as_deref()).await?
            }
        };
        let is_whole = proof.broken.is_none();
        if global.json {
            output::json(&proof)?;
        } else {
            let AuditProof { entries, start, end, broken } = &proof;
            let first = start.number + 1;
            match broken {
                None => {
                    output::line(&format!("whole: {entries} entries, from {first} to {}", end.number));
                    if start.number > 0 && self.file.is_none() {
                        output::line(&format!("those up to {} were kept for long enough, and are gone", start.number));
                    }
                    output::line(&format!("its end is {end}"));
                    output::line(
                        "noted elsewhere, it proves later that nothing up to here was changed: audit verify --at …",
                    );
                }
                Some(broken) => {
                    output::line(&format!("{}: {broken}", output::strong("broken")));
                    output::line(&format!("whole up to there: {entries} entries, from {first} to {}", end.number));
                }
            }
        }
        Ok(if is_whole { ExitCode::SUCCESS } else { ExitCode::FAILURE })
    }
}
