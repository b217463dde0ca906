//! Recipes: the container recipe file that repositories carry, read under any file name.
//!
//! [`Recipe::read`] gives stages and their instructions, each with its place and text, or every fault at
//! once. Texts are kept as they were written; [`expand`] fills variables in when an instruction is
//! carried out.

mod command;
mod copy;
mod expand;
mod faults;
mod health;
mod ignore;
mod lines;
mod mount;
mod read;
mod words;

#[cfg(test)]
mod tests;

use std::collections::BTreeSet;

use pondrix_core::pipeline::{Fault, Span};

pub use command::{Command, Run, RunNetwork};
pub(crate) use copy::is_plain_name;
pub use copy::{Copy, CopyWord, HereFile};
pub(crate) use expand::expand_text;
pub use expand::{ExpandError, expand};
pub use health::{Health, Healthcheck};
pub use ignore::Ignore;
pub(crate) use ignore::{PatternError, without_alternatives};
pub(crate) use mount::is_kernels;
pub use mount::{Mount, MountKind};

/// A recipe that was read.
#[derive(Clone, Debug)]
pub struct Recipe {
    /// Its text.
    pub text: String,
    /// The letter that takes the meaning of the next one away, and joins lines: `\` or `` ` ``.
    pub escape: char,
    /// The ARGs in front of the first FROM.
    pub globals: Vec<Instruction>,
    /// The stages, at least one. The last is what is built when nothing else is named.
    pub stages: Vec<Stage>,
    /// What is allowed, and seldom meant.
    pub warnings: Vec<Fault>,
}

/// A stage: FROM and the instructions after it.
#[derive(Clone, Debug)]
pub struct Stage {
    /// Its FROM.
    pub from: Instruction,
    /// What FROM names: an image, an earlier stage, or `scratch`. It may name variables.
    pub base: String,
    /// What AS calls it, in small letters.
    pub name: Option<String>,
    /// The platform that it is built for, where FROM says one. It may name variables.
    pub platform: Option<String>,
    /// The instructions after FROM.
    pub instructions: Vec<Instruction>,
}

/// One instruction and where it stands.
#[derive(Clone, Debug)]
pub struct Instruction {
    /// The line it begins on, from 1.
    pub line: usize,
    /// Where it stands: its first line.
    pub span: Span,
    /// Its whole text, continuation lines joined, here-documents behind it.
    pub text: String,
    /// What it says.
    pub action: Action,
}

/// What an instruction says. Texts may name variables.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// The beginning of a stage; what it says is in [`Stage`].
    From,
    /// Values that the build may be given, and what they are otherwise.
    Arg(Vec<(String, Option<String>)>),
    /// Variables, for the rest of the build and for containers.
    Env(Vec<(String, String)>),
    /// Labels.
    Label(Vec<(String, String)>),
    /// The folder that commands begin in.
    Workdir(String),
    /// Files, of the context, of a stage or of an image.
    Copy(Box<Copy>),
    /// A command, now.
    Run(Box<Run>),
    /// What containers run, or the entrypoint's arguments.
    Cmd(Command),
    /// What containers run.
    Entrypoint(Command),
    /// Ports that containers listen on: `8080`, `53/udp`, `9000-9002/tcp`.
    Expose(Vec<String>),
    /// Folders that containers keep elsewhere.
    Volume(Vec<String>),
    /// Who runs commands from here on.
    User(String),
    /// The signal that asks a container to end.
    StopSignal(String),
    /// How is seen whether a container is well.
    Healthcheck(Healthcheck),
    /// What runs commands in shell form from here on.
    Shell(Vec<String>),
    /// An instruction for the images that are built on this one.
    Onbuild(String),
    /// Who made it: an older way to say so.
    Maintainer(String),
}

impl Recipe {
    /// Reads a recipe.
    ///
    /// # Errors
    /// Every fault in it, in its order.
    pub fn read(text: &str) -> Result<Self, Vec<Fault>> {
        read::recipe(text)
    }

    /// Reads one instruction that an image left for those built on it (ONBUILD).
    ///
    /// # Errors
    /// The faults in it.
    pub fn read_trigger(text: &str) -> Result<Instruction, Vec<Fault>> {
        read::trigger(text)
    }

    /// A fault of an instruction, as [`Recipe::read`] would tell it.
    #[must_use]
    pub fn fault(&self, at: &Instruction, message: impl Into<String>, help: Option<String>) -> Fault {
        Fault::new(&self.text, at.span, message, help)
    }

    /// The place of a stage: by its name, or by its number from 0, as COPY and RUN may name it. Only
    /// stages before `before` can be meant.
    #[must_use]
    pub fn stage_named(&self, name: &str, before: usize) -> Option<usize> {
        let name = name.to_ascii_lowercase();
        let stages = &self.stages[..before.min(self.stages.len())];
        let named = stages.iter().rposition(|stage| stage.name.as_deref() == Some(&name));
        named.or_else(|| name.parse().ok().filter(|number| *number < stages.len()))
    }

    /// The stage that FROM of another one means: by its name only.
    #[must_use]
    pub fn base_stage(&self, name: &str, before: usize) -> Option<usize> {
        let name = name.to_ascii_lowercase();
        self.stages[..before.min(self.stages.len())].iter().rposition(|stage| stage.name.as_deref() == Some(&name))
    }

    /// The names that ARG declares anywhere.
    #[must_use]
    pub fn declared(&self) -> BTreeSet<&str> {
        let all = self.globals.iter().chain(self.stages.iter().flat_map(|stage| &stage.instructions));
        all.filter_map(|instruction| match &instruction.action {
            Action::Arg(args) => Some(args),
            _ => None,
        })
        .flatten()
        .map(|(name, _)| name.as_str())
        .collect()
    }
}
