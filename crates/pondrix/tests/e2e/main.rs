//! The real binary, its API and its console, against stand-ins on loopback.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod access;
mod again;
mod artifacts;
mod attacks;
mod audit;
mod backups;
mod bad_input;
mod bases;
mod browser;
mod check;
mod command_line;
mod connections;
mod contract;
mod crash;
mod demo;
mod drafts;
mod environments;
mod foundations;
mod identities;
mod images;
mod keys;
mod kubectl;
mod language;
mod openid;
mod passwords;
mod pasts;
mod platforms;
mod promises;
mod quickstart;
mod quotas;
mod recipes;
mod registry;
mod repositories;
mod runners;
mod secrets;
mod someone;
mod sources;
mod stale;
mod streams;
mod support;
mod surroundings;
mod templates;
mod trial;
mod upkeep;
