//! The words that every kind of job has.

use std::collections::BTreeMap;

use super::stage::condition;
use super::values::{exclusive, flag, is_name, once};
use crate::pipeline::model::{Axis, Conditions, Job, JobKind, Matrix, Needs, RequiredResult, Retry, Spanned};
use crate::pipeline::nodes::Line;

/// The words that every kind of job may have.
pub(super) const COMMON_WORDS: [&str; 7] = ["after", "when", "unless", "matrix", "retry", "may-fail", "exclusive"];
/// The words inside a `runner`.
pub(super) const RUNNER_WORDS: [&str; 1] = ["tool"];
/// The most that the values of a matrix may add to a job's name: with it, it is still the name of a file and of a tag
/// (OCI Distribution 1.1, "Pulling manifests": at most 128 letters).
const LONGEST_SUFFIX: usize = 50;
/// The most jobs that one matrix makes.
const MOST_COMBINATIONS: usize = 256;
const MOST_TRIES: i64 = 10;

/// What the words that every kind of job has say.
#[derive(Default)]
pub(super) struct Common {
    after: Vec<Spanned<String>>,
    conditions: Conditions,
    required_result: Option<RequiredResult>,
    matrix: Option<Matrix>,
    retry: Option<Retry>,
    may_fail: bool,
    exclusive: Option<String>,
    needs: Option<Needs>,
}

impl Common {
    /// Reads a line when its word is one of [`COMMON_WORDS`]; gives it back when not.
    pub(super) fn take<'s, 't>(&mut self, mut line: Line<'s, 't>) -> Result<(), Line<'s, 't>> {
        match line.word() {
            "after" => {
                self.after.extend(line.texts("the name of a job of this stage"));
                line.end_without_block(false);
            }
            "when" | "unless" => condition(&mut self.conditions, &mut self.required_result, line),
            "matrix" => matrix(&mut self.matrix, line),
            "retry" => {
                let times = line.number("how often", 1..=MOST_TRIES).and_then(|times| u32::try_from(times).ok());
                let only = line.named("only");
                if let Some(only) = only.as_ref().filter(|only| only.value != "lost") {
                    line.fault(
                        only.span,
                        format!("`{}` cannot be told apart", only.value),
                        "write only=\"lost\", or nothing",
                    );
                }
                let retry = times.map(|times| Retry { times, only_lost: only.is_some() });
                once(&mut self.retry, &line, retry);
                line.end_without_block(false);
            }
            "may-fail" => flag(&mut self.may_fail, line),
            "exclusive" => exclusive(&mut self.exclusive, line),
            _ => return Err(line),
        }
        Ok(())
    }

    /// `runner pool="NAME" { tool "NAME" }`, for the kinds of job that a runner does.
    pub(super) fn runner(&mut self, mut line: Line<'_, '_>) {
        let pool = line.named("pool").filter(|pool| is_name(&line, pool)).map(|pool| pool.value);
        let mut tools = Vec::new();
        line.inside(&RUNNER_WORDS, |mut line| {
            if line.word() != "tool" {
                return false;
            }
            for tool in line.texts("the name of a program") {
                if tool.value.is_empty() || tool.value.contains(['/', ' ']) {
                    line.fault(
                        tool.span,
                        format!("`{}` is not a program's name", tool.value),
                        "write it as a shell would find it: tool \"cargo\"",
                    );
                } else {
                    tools.push(tool.value);
                }
            }
            line.end_without_block(false);
            true
        });
        if pool.is_none() && tools.is_empty() {
            line.fault(line.span(), "`runner` needs nothing", "write runner pool=\"NAME\" { tool \"PROGRAM\" }");
        }
        once(&mut self.needs, &line, Some(Needs { pool, tools, ..Needs::default() }));
        line.end(false);
    }

    /// What the job needs of its runner so far.
    pub(super) fn needs(&mut self) -> &mut Needs {
        self.needs.get_or_insert_default()
    }

    pub(super) fn finish(self, name: Spanned<String>, kind: JobKind) -> Job {
        Job {
            name,
            after: self.after,
            conditions: self.conditions,
            required_result: self.required_result,
            matrix: self.matrix.unwrap_or_default(),
            retry: self.retry.unwrap_or_default(),
            may_fail: self.may_fail,
            exclusive: self.exclusive,
            needs: self.needs.unwrap_or_default(),
            kind,
        }
    }
}

fn matrix(slot: &mut Option<Matrix>, line: Line<'_, '_>) {
    let mut matrix = Matrix::default();
    let mut withouts = Vec::new();
    // The names may be any but one: a line's word is the name of an axis.
    line.inside(&["NAME", "without"], |mut line| {
        if line.word() == "without" {
            withouts.push(line.pairs());
            line.end_without_block(true);
            return true;
        }
        let axis = Spanned { value: line.word().to_owned(), span: line.span() };
        let named_well = is_name(&line, &axis);
        let mut values: Vec<String> = Vec::new();
        for value in line.texts("a value") {
            if values.contains(&value.value) {
                line.fault(value.span, format!("`{}` stands twice", value.value), "keep one of the two");
            } else {
                values.push(value.value);
            }
        }
        if matrix.axes.iter().any(|other| other.name == axis) {
            line.fault(axis.span, format!("two lines are called `{}`", axis.value), "write all values on one");
        } else if named_well {
            matrix.axes.push(Axis { name: axis, values });
        }
        line.end_without_block(false);
        true
    });
    for pairs in withouts {
        let mut without = BTreeMap::new();
        for (name, value) in pairs {
            match matrix.axes.iter().find(|axis| axis.name == name) {
                Some(axis) if axis.values.contains(&value.value) => {}
                Some(axis) => {
                    let known: Vec<_> = axis.values.iter().map(String::as_str).collect();
                    let help = crate::pipeline::fault::help_for_unknown(&value.value, &known);
                    line.fault(value.span, format!("`{}` has no value `{}`", name.value, value.value), help);
                }
                None => {
                    let known: Vec<_> = matrix.axes.iter().map(|axis| axis.name.value.as_str()).collect();
                    let help = crate::pipeline::fault::help_for_unknown(&name.value, &known);
                    line.fault(name.span, format!("the matrix has no `{}`", name.value), help);
                }
            }
            without.insert(name.value, value.value);
        }
        matrix.without.push(without);
    }
    let all: usize = matrix.axes.iter().map(|axis| axis.values.len()).product();
    if matrix.axes.is_empty() {
        line.fault(line.span(), "this matrix has no values", "write lines as: base \"debian\" \"alpine\"");
    } else if all > MOST_COMBINATIONS {
        line.fault(line.span(), format!("this matrix makes {all} jobs"), format!("at most {MOST_COMBINATIONS}"));
        matrix.axes.truncate(1);
    } else if matrix.combinations().is_empty() {
        line.fault(line.span(), "this matrix leaves everything out", "take a `without` away");
    }
    let combinations = matrix.combinations();
    let mut names: Vec<_> = combinations.iter().map(|(suffix, _)| suffix).collect();
    names.sort();
    if let Some(twice) = names.windows(2).find(|pair| pair[0] == pair[1]) {
        let message = format!("two jobs of this matrix would be called `{}`", twice[0].trim_start_matches(':'));
        line.fault(line.span(), message, "choose values that differ in their letters and digits");
    }
    if let Some(long) = names.iter().find(|suffix| suffix.len() > LONGEST_SUFFIX) {
        let message = format!("the values `{}` are too long for the name of a job", long.trim_start_matches(':'));
        let help =
            format!("choose values that have at most {LONGEST_SUFFIX} letters together, with a colon before each");
        line.fault(line.span(), message, help);
    }
    once(slot, &line, Some(matrix));
    line.end(false);
}
