//! RUN and the commands of containers.

use super::Mount;

/// A command in one of its forms.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Command {
    /// A line for the shell that SHELL names.
    Shell(String),
    /// A here-document alone: a text for the shell, or for the program that its first line names (`#!`).
    Script(String),
    /// A program and its arguments.
    Exec(Vec<String>),
}

impl Command {
    /// The program and its arguments, given what runs lines.
    #[must_use]
    pub fn argv(&self, shell: &[String]) -> Vec<String> {
        match self {
            Self::Shell(text) | Self::Script(text) => shell.iter().chain([text]).cloned().collect(),
            Self::Exec(argv) => argv.clone(),
        }
    }
}

/// A RUN.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Run {
    /// What is run.
    pub command: Command,
    /// What it sees besides the image's files.
    pub mounts: Vec<Mount>,
    /// What it can reach.
    pub network: RunNetwork,
}

/// What a RUN can reach.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RunNetwork {
    /// What the build can reach.
    #[default]
    Default,
    /// Nothing.
    None,
    /// The machine's own network.
    Host,
}

impl RunNetwork {
    /// The words for them.
    pub const WORDS: [(&'static str, Self); 3] =
        [("default", Self::Default), ("none", Self::None), ("host", Self::Host)];
}
