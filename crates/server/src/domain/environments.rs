//! Environments: what people set of them, and which runs may roll out there.

use std::collections::BTreeMap;
use std::path::Path;

use pondrix_api::{EnvironmentChange, EnvironmentView};
use pondrix_core::Time;
use pondrix_core::access::{Candidate, EnvironmentRules, Freeze, Gate, Need, RefPattern, RuleBroken, Starter};
use pondrix_core::pipeline::JobKind;
use pondrix_core::plan::{Plan, PlannedStage};
use pondrix_core::run::PreflightFault;
use pondrix_core::work::RunFacts;
use rusqlite::Connection;
use tracing::{info, warn};

use super::settings::{invalid, is_http, is_name};
use super::{Asker, Engine, EngineError};
use crate::audit;
use crate::ports::{self, Reached};
use crate::seal::KeyOwner;
use crate::store::{self, EnvironmentRow, StoreError};

/// The longest description of a cluster, in bytes.
const LONGEST_KUBECONFIG: usize = 64 * 1024;

/// Why a run may not use an environment, for people: the rule, who set it, whom to ask.
#[derive(Clone, Debug, thiserror::Error)]
#[error("environment `{environment}`: {broken} (the rule `{}`, set by {by})", .broken.rule)]
pub(crate) struct NotAdmitted {
    pub(crate) environment: String,
    broken: RuleBroken,
    by: String,
}

impl NotAdmitted {
    pub(crate) fn new(environment: &EnvironmentView, broken: RuleBroken) -> Self {
        let by = environment.by.clone().unwrap_or_else(|| "the server".to_owned());
        Self { environment: environment.name.clone(), broken, by }
    }

    /// What to do about it.
    pub(crate) fn help(&self) -> String {
        format!("ask {}, or whoever administers the server: pondrix role list", self.by)
    }
}

/// What is to be known of a run to say where it may go.
#[derive(Clone, Debug, Default)]
pub(crate) struct Standing {
    protected: Vec<RefPattern>,
    by: Option<Starter>,
}

impl Standing {
    pub(crate) fn read(records: &Connection, project: &str, by: Option<&str>) -> Result<Self, StoreError> {
        let protected = store::protected(records, project)?;
        let starter = |name: &str| -> Result<Starter, StoreError> {
            // Whoever is gone is of no team any more.
            let user = store::users(records)?.into_iter().find(|user| user.name == name);
            Ok(Starter { name: name.to_owned(), teams: user.map(|user| user.teams).unwrap_or_default() })
        };
        Ok(Self { protected, by: by.map(starter).transpose()? })
    }

    /// The run, as rules look at it, and whether its branch or tag has its commit ([`Engine::is_in_ref`]).
    pub(crate) fn candidate<'a>(&'a self, facts: &'a RunFacts, is_in_ref: bool) -> Candidate<'a> {
        Candidate {
            project: facts.id.project.as_str(),
            protected: &self.protected,
            branch: &facts.branch,
            tag: facts.tag.as_deref(),
            start: facts.start,
            is_try: facts.is_try,
            was_trusted: facts.was_trusted,
            is_in_ref,
            by: self.by.clone(),
        }
    }
}

/// The names of the environments that a stage goes to, by what begins in it.
pub(super) fn goes_to(stage: &PlannedStage) -> impl Iterator<Item = &str> {
    stage.jobs.iter().filter(|job| job.left_out.is_none()).filter_map(|job| match &job.kind {
        JobKind::Rollout(rollout) => Some(rollout.to.value.as_str()),
        _ => None,
    })
}

/// Adds to a plan whose yes the environments want that its stages go to.
pub(super) fn add_gates(plan: &mut Plan, environments: &[EnvironmentRow], own: &[String]) {
    for stage in &mut plan.stages {
        let mut gates: Vec<Gate> = Vec::new();
        for name in goes_to(stage) {
            let row = environments.iter().find(|row| row.view.name == name);
            let gate = row.and_then(|row| row.view.rules.gate(name, own.to_vec()));
            gates.extend(gate.filter(|gate| !gates.iter().any(|known| known.environment == gate.environment)));
        }
        stage.gates = gates;
    }
}

/// Whose yes to a run of theirs does not count: whoever started it, and whoever has the name that its commit's author
/// has.
pub(crate) fn own_names(records: &Connection, by: Option<&str>, author: &str) -> Result<Vec<String>, StoreError> {
    let is_author = |name: &str| author.split_whitespace().collect::<Vec<_>>().join("-").eq_ignore_ascii_case(name);
    let authors = store::users(records)?.into_iter().map(|user| user.name).filter(|name| is_author(name));
    Ok(by.map(str::to_owned).into_iter().chain(authors).collect())
}

impl Engine {
    /// All environments, by name.
    pub(crate) async fn environments(&self) -> Result<Vec<EnvironmentView>, StoreError> {
        Ok(self.store.read(store::environments).await?.into_iter().map(|row| row.view).collect())
    }

    /// Makes an environment known, or changes it.
    pub(crate) async fn set_environment(
        &self,
        change: EnvironmentChange,
        by: &Asker,
    ) -> Result<EnvironmentView, EngineError> {
        let EnvironmentChange { name, kubeconfig, namespace, address, rules } = change;
        audit::about(&name);
        let rules_said = rules.as_ref().map(|rules| format!("takes {rules}"));
        let said = [
            kubeconfig.as_ref().map(|_| "another cluster".to_owned()),
            namespace.as_ref().map(|namespace| format!("namespace {namespace}")),
            address.as_ref().map(|address| format!("address {address}")),
            rules_said,
        ];
        audit::words(said.into_iter().flatten().collect::<Vec<_>>().join("; "));
        for name in [Some(&name), namespace.as_ref()].into_iter().flatten() {
            is_name(name, "a name here")?;
        }
        if let Some(address) = address.as_ref().filter(|address| !address.is_empty()) {
            is_http(address)?;
        }
        if let Some(rules) = &rules {
            check(rules)?;
        }
        let reached = match kubeconfig {
            None => None,
            Some(text) if text.len() > LONGEST_KUBECONFIG => {
                return invalid(format!("a kubeconfig has at most {} KiB here", LONGEST_KUBECONFIG / 1024));
            }
            Some(text) => {
                let one = ports::kubeconfig::read(&text);
                let one = one.map_err(|error| EngineError::Invalid(format!("the kubeconfig of {name}: {error}")))?;
                Some((one.server, self.sealed(KeyOwner::Server, &place(&name), one.text.as_bytes()).await?))
            }
        };
        let _turn = self.setting.lock().await;
        let wanted = name.clone();
        let known = self.store.read(move |c| store::environment(c, &wanted)).await?;
        let before = known.as_ref().map(|row| (row.is_own, row.view.rules.projects.as_slice()));
        let wanted = rules.as_ref().or(known.as_ref().map(|row| &row.view.rules));
        let after = wanted.map_or(&[][..], |rules| rules.projects.as_slice());
        let is_own = by.must_set(Need::Administer, Some(&name), before, after)?;
        if known.is_none() && reached.is_none() {
            return invalid(format!(
                "{name} is new: say how its cluster is reached: pondrix environment set {name} --kubeconfig FILE"
            ));
        }
        let mut row = known.unwrap_or_else(|| EnvironmentRow {
            view: EnvironmentView {
                namespace: name.clone(),
                name,
                cluster: None,
                address: None,
                rules: EnvironmentRules::default(),
                by: None,
                set: None,
            },
            kubeconfig: None,
            is_own,
        });
        row.is_own = is_own;
        if let Some((server, sealed)) = reached {
            (row.view.cluster, row.kubeconfig) = (Some(server), Some(sealed));
        }
        row.view.namespace = namespace.unwrap_or(row.view.namespace);
        row.view.address = address.map_or(row.view.address, |address| Some(address).filter(|text| !text.is_empty()));
        if let Some(rules) = rules {
            row.view.rules = EnvironmentRules { freeze: row.view.rules.freeze, ..rules };
        }
        if is_own {
            // Where the server is sent is looked at again each time.
            let reached = self.reached(&row)?;
            self.clusters.connect(&reached).await.map_err(|error| EngineError::Forbidden(error.to_string()))?;
        }
        self.put_environment(row, by).await
    }

    /// Has nothing rolled out to an environment, or has it again. Answers nothing where there is no such one.
    pub(crate) async fn freeze(
        &self,
        name: &str,
        reason: Option<String>,
        by: &Asker,
    ) -> Result<Option<EnvironmentView>, EngineError> {
        if reason.as_ref().is_some_and(|reason| reason.trim().is_empty()) {
            return invalid("say why: whoever is kept from a rollout is told");
        }
        if let Some(reason) = &reason {
            audit::words(reason);
        }
        let _turn = self.setting.lock().await;
        let wanted = name.to_owned();
        let Some(mut row) = self.store.read(move |c| store::environment(c, &wanted)).await? else {
            by.must(Need::Administer, None)?;
            return Ok(None);
        };
        Self::must_open(&row, by)?;
        let since = self.clock.now();
        let is_frozen = reason.is_some();
        row.view.rules.freeze = reason.map(|reason| Freeze { reason, by: by.name.clone(), since });
        let view = row.view.clone();
        // Who set the other rules stays: it is them who are asked.
        self.store.write_noted(since, move |c| store::put_environment(c, &row)).await?;
        info!(environment = name, by = by.name, is_frozen, "an environment was frozen, or thawed");
        Ok(Some(view))
    }

    async fn put_environment(&self, mut row: EnvironmentRow, by: &Asker) -> Result<EnvironmentView, EngineError> {
        (row.view.by, row.view.set) = (Some(by.name.clone()), Some(self.clock.now()));
        let view = row.view.clone();
        self.store.write_noted(self.clock.now(), move |c| store::put_environment(c, &row)).await?;
        info!(environment = view.name, by = by.name, "an environment was set");
        Ok(view)
    }

    /// Refuses to change an environment to whom it is not ([`Asker::must_set`]).
    pub(super) fn must_change(row: &EnvironmentRow, need: Need, by: &Asker) -> Result<bool, EngineError> {
        let projects = row.view.rules.projects.as_slice();
        by.must_set(need, Some(&row.view.name), Some((row.is_own, projects)), projects)
    }

    /// The same for what ends a freeze: whoever set it ends it, or an administrator.
    pub(super) fn must_open(row: &EnvironmentRow, by: &Asker) -> Result<(), EngineError> {
        let is_own = Self::must_change(row, Need::Administer, by)?;
        match row.view.rules.freeze.as_ref().filter(|freeze| is_own && freeze.by != by.name) {
            Some(Freeze { by, reason, .. }) => {
                Err(EngineError::Forbidden(format!("{by} froze it: {reason}; ask them")))
            }
            None => Ok(()),
        }
    }

    /// How the cluster of an environment is reached.
    pub(crate) fn reached(&self, row: &EnvironmentRow) -> Result<Reached, EngineError> {
        let EnvironmentView { name, namespace, .. } = &row.view;
        let Some(sealed) = &row.kubeconfig else {
            let words =
                format!("how {name} is reached has to be told anew: pondrix environment set {name} --kubeconfig FILE");
            return Err(EngineError::Conflict(words));
        };
        let opened = self.seal.unseal_text(&place(name), sealed);
        let kubeconfig = opened.map_err(|error| EngineError::Conflict(format!("environment `{name}`: {error}")))?;
        Ok(Reached { environment: name.clone(), namespace: namespace.clone(), kubeconfig, is_anybodys: row.is_own })
    }

    /// Whether a run may roll out to an environment; at a moment, where one is said.
    pub(crate) fn admitted(
        environment: &EnvironmentView,
        candidate: &Candidate<'_>,
        now: Option<Time>,
    ) -> Result<(), NotAdmitted> {
        let rules = &environment.rules;
        let admitted = rules.admit(candidate).and_then(|()| now.map_or(Ok(()), |now| rules.admit_now(now)));
        admitted.map_err(|broken| NotAdmitted::new(environment, broken))
    }

    /// The environments that a run may not roll out to, of those that it wants, each with the job that does.
    pub(crate) async fn not_admitted(
        &self,
        facts: &RunFacts,
        by: Option<String>,
        wanted: &BTreeMap<String, String>,
    ) -> Result<Vec<PreflightFault>, StoreError> {
        if wanted.is_empty() {
            return Ok(Vec::new());
        }
        let project = facts.id.project.clone();
        let read =
            move |c: &Connection| Ok((Standing::read(c, project.as_str(), by.as_deref())?, store::environments(c)?));
        let (standing, environments) = self.store.read(read).await?;
        let candidate = standing.candidate(facts, self.is_in_ref(facts).await?);
        let refused = environments.iter().filter_map(|row| {
            let job = wanted.get(&row.view.name)?.clone();
            let refusal = Self::admitted(&row.view, &candidate, None).err()?;
            Some(PreflightFault { job, what: refusal.to_string(), fix: refusal.help() })
        });
        Ok(refused.collect())
    }

    /// Reads and seals what environments of an earlier Pondrix name as files. What cannot be used is told, and has to be
    /// given again.
    pub(crate) async fn seal_files_of_environments(&self) -> Result<(), StoreError> {
        for (name, file) in self.store.read(store::environments_in_files).await? {
            let read = std::fs::read_to_string(Path::new(&file)).map_err(|error| error.to_string());
            let one = read.and_then(|text| ports::kubeconfig::read(&text).map_err(|error| error.to_string()));
            let sealed = one.and_then(|one| {
                let sealed = self.seal.seal(KeyOwner::Server, &place(&name), one.text.as_bytes());
                Ok((one.server, sealed.map_err(|error| error.to_string())?))
            });
            match sealed {
                Ok((server, sealed)) => {
                    let put = move |c: &Connection| match store::environment(c, &name)? {
                        Some(mut row) => {
                            (row.view.cluster, row.kubeconfig) = (Some(server.clone()), Some(sealed.clone()));
                            store::put_environment(c, &row)
                        }
                        None => Ok(()),
                    };
                    self.store.write(put).await?;
                }
                Err(error) => warn!(environment = name, file, error, "give its kubeconfig again"),
            }
        }
        Ok(())
    }
}

/// Where a kubeconfig is sealed for.
fn place(environment: &str) -> String {
    format!("environment/{environment}")
}

fn check(rules: &EnvironmentRules) -> Result<(), EngineError> {
    if let Some(approvers) = &rules.approvers {
        if approvers.of.is_empty() || !(1..=20).contains(&approvers.count) {
            return invalid("name whose yes counts, and how many of them must say it: 1 to 20");
        }
        let people = approvers.of.iter().all(|holder| matches!(holder, pondrix_core::access::Holder::Person(_)));
        if people && approvers.of.len() < approvers.count as usize {
            return invalid(format!("{} people cannot say yes where {} may", approvers.count, approvers.of.len()));
        }
    }
    Ok(())
}
