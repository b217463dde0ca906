//! `output` and `test-report`: what a job says in files.

use std::fs::File;
use std::io::Read;
use std::path::Path;

use pondrix_api::JobReport;
use pondrix_core::junit::Report;
use pondrix_core::pipeline::Output;
use pondrix_core::run::JobResult;
use pondrix_image::build::plain_path;

use super::walk::fitting;
use crate::executor::context::JobExecutor;
use crate::executor::error::{Doing, JobError};

/// The longest text that a job hands on, in bytes: it becomes a variable of later jobs.
const LONGEST_OUTPUT: u64 = 64 * 1024;
/// The longest report that is read, in bytes.
const LONGEST_REPORT: u64 = 32 << 20;
/// How much is read of all reports of a job: reading them is the runner's work, and not the job's.
const LONGEST_REPORTS: u64 = 256 << 20;

/// Reads a plain file of the workspace, and no link.
fn read(workspace: &Path, path: &str, most: u64) -> Result<Vec<u8>, JobError> {
    let file = plain_path(workspace, Path::new(path)).filter(|file| file.symlink_metadata().is_ok_and(|d| d.is_file()));
    let file = file.ok_or_else(|| JobError::Asked(format!("there is no file {path}")))?;
    let mut bytes = Vec::new();
    let read = File::open(file).and_then(|file| file.take(most + 1).read_to_end(&mut bytes));
    read.doing(|| path.to_owned())?;
    if bytes.len() as u64 > most {
        Err(JobError::Asked(format!("{path} is longer than {most} bytes")))
    } else {
        Ok(bytes)
    }
}

/// Hands texts on to later jobs.
pub(crate) fn outputs(executor: &JobExecutor, workspace: &Path, outputs: &[Output]) -> Result<(), JobError> {
    for output in outputs {
        let name = &output.name.value;
        let doing = || format!("could not hand on `{name}`");
        let told = |words: &str| Err(JobError::asked(words)).doing(doing);
        let bytes = read(workspace, &output.file, LONGEST_OUTPUT).doing(doing)?;
        let Ok(text) = String::from_utf8(bytes) else { return told(&format!("{} is not UTF-8", output.file)) };
        let value = text.trim_end_matches(['\n', '\r']).to_owned();
        if value.contains('\0') {
            return told(&format!("{} has a zero byte in it", output.file));
        }
        // It would be stored and shown in the clear.
        if executor.log.hide(&value) != value {
            return told(&format!("{} has a secret in it", output.file));
        }
        let result = JobResult::Output { name: name.clone(), value };
        executor.report(JobReport::Result { result });
    }
    Ok(())
}

/// Reads test reports, and tells what they say.
pub(crate) fn test_reports(executor: &JobExecutor, workspace: &Path, patterns: &[String]) {
    if patterns.is_empty() {
        return;
    }
    let mut report = Report::default();
    match fitting(workspace, patterns, executor.watch()) {
        Ok(paths) if paths.is_empty() => report.damage.push(format!("no file fits {}", patterns.join(", "))),
        Ok(paths) => {
            let mut left = LONGEST_REPORTS;
            for path in paths.iter().map(|path| path.display().to_string()) {
                if left == 0 {
                    let words =
                        format!("{path} and what follows it is left out: {} MiB are read", LONGEST_REPORTS >> 20);
                    report.damage.push(words);
                    break;
                }
                match read(workspace, &path, LONGEST_REPORT.min(left)) {
                    Ok(bytes) => {
                        left = left.saturating_sub(bytes.len() as u64);
                        report.add(&path, &executor.log.hide(&String::from_utf8_lossy(&bytes)));
                    }
                    Err(error) => report.damage.push(error.to_string()),
                }
            }
        }
        Err(error) => report.damage.push(error.to_string()),
    }
    let passed = report.tests.saturating_sub(report.failed + report.skipped);
    executor.log.say(&format!("tests: {passed} passed, {} failed, {} skipped", report.failed, report.skipped));
    executor.report(JobReport::Result { result: JobResult::Tests { report } });
}
