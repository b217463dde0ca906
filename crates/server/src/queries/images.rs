//! Images that runs pushed.

use pondrix_api::{ChainLink, ImageSummary, TagChange};
use pondrix_core::image::{Digest, Entry};

use super::Queries;
use crate::store::{self, ImageBody, StoreError};

impl Queries {
    /// Images of a repository and of a project, where one is said; the newest first.
    pub(crate) async fn images(
        &self,
        repository: Option<String>,
        project: Option<String>,
        most: usize,
    ) -> Result<Vec<ImageSummary>, StoreError> {
        self.records.read(move |c| store::images(c, repository.as_deref(), project.as_deref(), most)).await
    }

    /// Images of any of these projects, and of a repository where one is said; the newest first.
    pub(crate) async fn images_of(
        &self,
        projects: Vec<String>,
        repository: Option<String>,
        most: usize,
    ) -> Result<Vec<ImageSummary>, StoreError> {
        let question = move |c: &rusqlite::Connection| {
            let mut all = Vec::new();
            for project in &projects {
                all.extend(store::images(c, repository.as_deref(), Some(project), most)?);
            }
            all.sort_by(|one, other| other.created.cmp(&one.created).then_with(|| one.digest.cmp(&other.digest)));
            all.truncate(most);
            Ok(all)
        };
        self.records.read(question).await
    }

    /// The repositories that a name, or the end of one, may mean.
    pub(crate) async fn repositories(&self, name: &str) -> Result<Vec<String>, StoreError> {
        let name = name.to_owned();
        self.records.read(move |c| store::repositories(c, &name)).await
    }

    /// The digest that a tag stands for.
    pub(crate) async fn tagged(&self, repository: &str, tag: &str) -> Result<Option<String>, StoreError> {
        let (repository, tag) = (repository.to_owned(), tag.to_owned());
        self.records.read(move |c| store::tagged(c, &repository, &tag)).await
    }

    /// An image of a repository: the one whose digest begins so, or the newest.
    pub(crate) async fn image(
        &self,
        repository: &str,
        digest: Option<String>,
    ) -> Result<Option<(ImageSummary, ImageBody)>, StoreError> {
        let repository = repository.to_owned();
        self.records.read(move |c| store::image(c, &repository, digest.as_deref())).await
    }

    /// What the tags of a repository stood for, the newest change first.
    pub(crate) async fn tag_changes(&self, repository: &str, most: usize) -> Result<Vec<TagChange>, StoreError> {
        let repository = repository.to_owned();
        self.records.read(move |c| store::tag_changes(c, &repository, most)).await
    }

    /// The newest images of all branches, with the repositories that each is built on.
    pub(crate) async fn newest_images(&self) -> Result<Vec<(ChainLink, Vec<String>)>, StoreError> {
        self.records.read(store::newest_images).await
    }

    /// Those of some layers whose files are not known.
    pub(crate) async fn unlisted(&self, layers: Vec<Digest>) -> Result<Vec<Digest>, StoreError> {
        self.records.read(move |c| store::unlisted(c, layers)).await
    }

    /// The files of each of some layers; nothing where those of one are not known.
    pub(crate) async fn listings(&self, layers: Vec<Digest>) -> Result<Option<Vec<Vec<Entry>>>, StoreError> {
        let question = move |c: &rusqlite::Connection| match store::unlisted(c, layers.clone())?.is_empty() {
            true => layers.iter().map(|layer| store::listing(c, layer)).collect::<Result<_, _>>().map(Some),
            false => Ok(None),
        };
        self.records.read(question).await
    }
}
