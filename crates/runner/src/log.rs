//! A job's log: from its processes to a file, and from the file to the server.
//!
//! The file is what makes a restart of the server harmless: what was not delivered yet is still
//! there, and the server says up to where it has it.

use std::fs::File;
use std::io::{PipeReader, Read, Write};
use std::os::fd::OwnedFd;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;
use std::thread::JoinHandle;

use pondrix_api::{Assignment, NamedSecret, RunnerClient};
use pondrix_core::mask::Masker;
use tokio::sync::watch;
use tracing::warn;

use crate::contact::Contact;

/// After how many bytes a line of a service is broken.
const LONGEST_LINE: usize = 16 * 1024;
/// The most that is sent at once.
const CHUNK: usize = 512 * 1024;

/// Where the log is collected.
#[derive(Clone, Debug)]
pub(crate) struct Log {
    file: Arc<File>,
    /// How long the job's log was before, in bytes: what was written when it was tried earlier.
    base: u64,
    /// Hides secrets in it; each stream has one like it.
    masker: Masker,
    /// How long the file is.
    length: watch::Sender<u64>,
}

/// A piece of the log being written, by a step.
pub(crate) struct Piece {
    writer: OwnedFd,
    reader: JoinHandle<()>,
}

impl Log {
    /// A log that continues one of so many bytes, and in which these secrets are hidden.
    pub(crate) fn new(path: &Path, base: u64, secrets: &[NamedSecret]) -> std::io::Result<Self> {
        let file = File::options().create_new(true).read(true).append(true).open(path)?;
        let masker = Masker::new(secrets.iter().map(|secret| (secret.name.as_str(), secret.value.as_bytes())));
        Ok(Self { file: Arc::new(file), base, masker, length: watch::Sender::new(0) })
    }

    /// How long the log is, in bytes, with what was there before.
    pub(crate) fn length(&self) -> u64 {
        self.base + *self.length.borrow()
    }

    /// Adds a line of the runner's own.
    pub(crate) fn say(&self, line: &str) {
        self.append(format!("{}\n", self.hide(line)).as_bytes());
    }

    /// A text with every secret hidden.
    pub(crate) fn hide(&self, text: &str) -> String {
        self.masker.clone().whole(text)
    }

    fn append(&self, bytes: &[u8]) {
        // A full disk must not end the job; the server then has a shorter log than there was.
        if !bytes.is_empty() && (&*self.file).write_all(bytes).is_ok() {
            self.length.send_modify(|length| *length += bytes.len() as u64);
        }
    }

    /// Something for a step to write to.
    pub(crate) fn piece(&self) -> std::io::Result<Piece> {
        let (reader, writer) = std::io::pipe()?;
        let log = self.clone();
        Ok(Piece { writer: writer.into(), reader: std::thread::spawn(move || log.collect(reader)) })
    }

    /// Something for a service of the job to write to; each of its lines begins with its name.
    pub(crate) fn piece_of(&self, name: &str) -> std::io::Result<Piece> {
        let (reader, writer) = std::io::pipe()?;
        let (log, lead) = (self.clone(), format!("{name}> "));
        Ok(Piece { writer: writer.into(), reader: std::thread::spawn(move || log.collect_lines(reader, &lead)) })
    }

    fn collect(&self, reader: PipeReader) {
        self.read_masked(reader, |bytes| self.append(bytes));
    }

    /// Whole lines only: others write between them.
    fn collect_lines(&self, reader: PipeReader, lead: &str) {
        let mut held = Vec::new();
        self.read_masked(reader, |bytes| {
            held.extend_from_slice(bytes);
            while let Some(end) =
                held.iter().position(|byte| *byte == b'\n').or((held.len() > LONGEST_LINE).then_some(LONGEST_LINE))
            {
                let rest = held.split_off(end);
                self.append(&[lead.as_bytes(), &held, b"\n"].concat());
                held = rest.strip_prefix(b"\n").map_or_else(|| rest.clone(), <[u8]>::to_vec);
            }
        });
        if !held.is_empty() {
            self.append(&[lead.as_bytes(), &held, b"\n"].concat());
        }
    }

    /// Reads to the end, with every secret hidden.
    fn read_masked(&self, mut reader: PipeReader, mut take: impl FnMut(&[u8])) {
        let mut buffer = vec![0; 64 * 1024];
        let mut masker = self.masker.clone();
        while let Ok(count) = reader.read(&mut buffer) {
            if count == 0 {
                break;
            }
            take(&masker.push(&buffer[..count]));
        }
        take(&masker.finish());
    }

    /// Delivers the log as it grows, until it is delivered whole after `ended`, or the server says
    /// that this job is no longer ours.
    pub(crate) async fn deliver(
        &self,
        client: &RunnerClient,
        contact: &Contact,
        assignment: &Assignment,
        mut ended: watch::Receiver<bool>,
    ) {
        let mut length = self.length.subscribe();
        let mut sent = 0;
        loop {
            let there = *length.borrow_and_update();
            if sent == there {
                if *ended.borrow() {
                    return;
                }
                tokio::select! {
                    _ = length.changed() => {}
                    _ = ended.changed() => {}
                }
                continue;
            }
            let count = usize::try_from(there - sent).unwrap_or(CHUNK).min(CHUNK);
            let mut bytes = vec![0; count];
            if self.file.read_exact_at(&mut bytes, sent).is_err() {
                return;
            }
            let append = || client.append_log(assignment, self.base + sent, bytes.clone());
            match contact.ask(|| true, append).await {
                Ok(length) => sent = length.saturating_sub(self.base).min(there),
                Err(error) => {
                    warn!(job = %assignment.job, %error, "the server takes no more of a log");
                    return;
                }
            }
        }
    }
}

impl Piece {
    /// Another descriptor to write with.
    pub(crate) fn writer(&self) -> std::io::Result<OwnedFd> {
        self.writer.try_clone()
    }

    /// Waits until everything written is in the log. Every other writer must be gone.
    pub(crate) fn finish(self) {
        drop(self.writer);
        let _ = self.reader.join();
    }
}
