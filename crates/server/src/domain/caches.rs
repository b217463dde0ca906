//! What runs find again that earlier ones made: archives of files, and lists of what instructions of recipes made. What a
//! run left that its project does not trust is found by no run that it does.

use pondrix_api::{CacheAnswer, CacheEntry, CacheQuestion, HashKey, StepList};
use pondrix_core::image::Digest;
use pondrix_core::work::{RunFacts, Work};
use pondrix_core::{JobKey, ProjectName};
use rusqlite::Connection;

use super::{Engine, LiveRun, Standing};
use crate::store::{self, CachePlace, CacheRow, Project, StoreError};

/// How many bytes of archives a project may have.
const MOST_CACHE: u64 = 10 << 30;
/// The branch whose archives every run may find, where the repository's default branch is not known.
const USUAL_BRANCH: &str = "main";

/// What a build takes from earlier ones.
#[derive(Debug, Default)]
pub(super) struct Earlier {
    /// Whether the run is of a ref that its project protects.
    pub(super) is_trusted: bool,
    /// The lists of steps that it may believe.
    pub(super) step_lists: Vec<Digest>,
}

/// Where a run finds archives, the first place first, and where it may leave some.
struct Places {
    find: Vec<CachePlace>,
    leave: Option<CachePlace>,
}

/// The run that asks.
struct Asking {
    facts: RunFacts,
    is_in_ref: bool,
}

impl Asking {
    /// Whether its project trusts it now.
    fn is_trusted(&self, records: &Connection) -> Result<bool, StoreError> {
        let Self { facts, is_in_ref } = self;
        Ok(Standing::read(records, facts.id.project.as_str(), None)?.candidate(facts, *is_in_ref).is_trusted())
    }

    fn places(&self, records: &Connection) -> Result<Places, StoreError> {
        let (facts, is_trusted) = (&self.facts, self.is_trusted(records)?);
        let of_branch = !facts.is_try && facts.tag.is_none();
        let own = of_branch.then(|| CachePlace { branch: facts.branch.clone(), is_trusted });
        let shared = store::default_branch(records, facts.id.project.as_str())?;
        let shared = shared.unwrap_or_else(|| USUAL_BRANCH.to_owned());
        let mut find: Vec<_> = own.clone().into_iter().collect();
        let kinds = if is_trusted { &[true][..] } else { &[true, false] };
        for is_trusted in kinds.iter().copied() {
            let place = CachePlace { branch: shared.clone(), is_trusted };
            if !find.contains(&place) {
                find.push(place);
            }
        }
        Ok(Places { find, leave: own })
    }

    fn project(&self, records: &Connection) -> Result<Option<Project>, StoreError> {
        store::project(records, self.facts.id.project.as_str())
    }
}

impl Engine {
    async fn asking(&self, live: &LiveRun) -> Result<Asking, StoreError> {
        let facts = live.row.facts.clone();
        Ok(Asking { is_in_ref: self.is_in_ref(&facts).await?, facts })
    }

    /// Looks for an archive: in the run's own branch first, then in the shared one.
    pub(crate) async fn find_cache(&self, live: &LiveRun, asked: CacheQuestion) -> Result<CacheAnswer, StoreError> {
        let (asking, key, now) = (self.asking(live).await?, asked.key.clone(), self.clock.now());
        let find = move |c: &Connection| {
            let places = asking.places(c)?;
            let Some(project) = asking.project(c)? else { return Ok((None, false)) };
            let beginnings = asked.newest.iter().map(|prefix| (prefix, true));
            for (key, is_beginning) in [(&asked.key, false)].into_iter().chain(beginnings) {
                for place in &places.find {
                    let found = store::find_cache(c, project.id, place, key, is_beginning, now)?;
                    if found.is_some() {
                        return Ok((found, places.leave.is_some()));
                    }
                }
            }
            Ok((None, places.leave.is_some()))
        };
        let (found, may_leave) = self.store.write(find).await?;
        let found = found.filter(|found| self.files.has(&found.digest));
        let may_write = may_leave && found.as_ref().is_none_or(|found| found.key != key);
        let entry = |found: CacheRow| CacheEntry { key: found.key, digest: found.digest, size: found.size };
        Ok(CacheAnswer { found: found.map(entry), may_write })
    }

    /// Keeps an archive for later runs of the same branch.
    pub(crate) async fn put_cache(&self, live: &LiveRun, entry: CacheEntry) -> Result<(), StoreError> {
        let (asking, now) = (self.asking(live).await?, self.clock.now());
        let cache = CacheRow { key: entry.key, digest: entry.digest, size: entry.size };
        let put = move |c: &Connection| match (asking.project(c)?, asking.places(c)?.leave) {
            (Some(project), Some(place)) => store::put_cache(c, project.id, &place, &cache, now, MOST_CACHE),
            _ => Ok(()),
        };
        self.store.write(put).await
    }

    /// What a job may take from earlier ones.
    pub(super) async fn earlier(&self, live: &LiveRun, job: &JobKey, work: &Work) -> Result<Earlier, StoreError> {
        let Work::Image(image) = work else { return Ok(Earlier::default()) };
        let (asking, job, cache) = (self.asking(live).await?, job.job().to_owned(), image.cache.clone());
        let read = move |c: &Connection| {
            let is_trusted = asking.is_trusted(c)?;
            let mut step_lists = Vec::new();
            if let (Some(repository), Some(project)) = (cache, asking.project(c)?) {
                let kinds = if is_trusted { &[true][..] } else { &[true, false] };
                for kind in kinds.iter().copied() {
                    step_lists.extend(store::step_list(c, project.id, &repository.to_string(), &job, kind)?);
                }
            }
            Ok(Earlier { is_trusted, step_lists })
        };
        self.store.read(read).await
    }

    /// Remembers the list of steps that a job left in a registry.
    pub(crate) async fn put_step_list(&self, live: &LiveRun, job: &JobKey, list: StepList) -> Result<(), StoreError> {
        let (asking, job) = (self.asking(live).await?, job.job().to_owned());
        let StepList { repository, list } = list;
        let put = move |c: &Connection| {
            let Some(project) = asking.project(c)? else { return Ok(()) };
            store::put_step_list(c, project.id, &repository.to_string(), &job, asking.is_trusted(c)?, &list)
        };
        self.store.write(put).await
    }

    /// What the values of a project's secrets are hashed with where what is made depends on them.
    pub(super) fn hash_key(&self, project: &ProjectName) -> HashKey {
        HashKey(self.seal.derived(&format!("{project}/keys of steps")))
    }
}
