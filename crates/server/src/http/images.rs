//! Images that runs pushed: what is in them, what their tags meant, how they differ, what is built on what.

use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Query, State};
use pondrix_api::{ChainLink, ImageChain, ImageDetail, ImageDifference, ImageList, ImageSummary, Problem};
use pondrix_core::image::{Entry, file_changes, merge, package_changes};
use serde::Deserialize;
use utoipa::IntoParams;

use super::auth::Person;
use super::error::ApiError;
use super::{Shared, projects};
use crate::off_thread::off_thread;
use crate::store::ImageBody;

/// The most images that one answer has.
const MOST: usize = 100;
/// The most changes of tags that one answer has.
const MOST_CHANGES: usize = 50;
/// The most files of a difference that one answer has.
const MOST_FILES: usize = 1000;

/// Which images.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Which {
    /// A repository: `HOST/PATH`, or the end of it.
    repository: Option<String>,
    /// A project.
    project: Option<String>,
}

/// Images, the newest first.
#[utoipa::path(get, path = "/api/v1/images", tag = "images", params(Which),
    responses((status = 200, body = ImageList), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn list(
    State(app): Shared,
    person: Person,
    Query(which): Query<Which>,
) -> Result<Json<ImageList>, ApiError> {
    let seen = projects::all_seen(&app, &person).await?;
    let repository = match &which.repository {
        Some(name) => Some(repository(&app, seen.as_deref(), name).await?),
        None => None,
    };
    if let Some(project) = &which.project {
        projects::seen(&app, &person, project).await?;
    }
    let images = match seen {
        Some(seen) if which.project.is_none() => app.queries.images_of(seen, repository, MOST).await?,
        _ => app.queries.images(repository, which.project, MOST).await?,
    };
    Ok(Json(ImageList { images }))
}

/// Which image.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Name {
    /// `REPOSITORY`, `REPOSITORY:TAG` or `REPOSITORY@DIGEST`; the end of a repository's name will do, and the
    /// beginning of a digest. The newest where neither tag nor digest is said.
    name: String,
}

/// An image with all that is known of it.
#[utoipa::path(get, path = "/api/v1/images/one", tag = "images", params(Name),
    responses((status = 200, body = ImageDetail), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn show(
    State(app): Shared,
    person: Person,
    Query(Name { name }): Query<Name>,
) -> Result<Json<ImageDetail>, ApiError> {
    let (summary, body) = find(&app, &person, &name).await?;
    let mut tags = app.queries.tag_changes(&summary.repository, MOST_CHANGES).await?;
    tags.retain(|change| run_is_seen(&person, &change.run));
    let ImageBody { layers, packages, labels, of_base } = body;
    Ok(Json(ImageDetail { summary, layers, packages, labels, of_base, tags }))
}

/// Which two images.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(super) struct Two {
    /// The first, as for one image.
    one: String,
    /// The other.
    other: String,
}

/// How two images differ: in packages, and in files.
#[utoipa::path(get, path = "/api/v1/images/difference", tag = "images", params(Two),
    responses((status = 200, body = ImageDifference), (status = 401, body = Problem), (status = 404, body = Problem)))]
pub(super) async fn difference(
    State(app): Shared,
    person: Person,
    Query(Two { one, other }): Query<Two>,
) -> Result<Json<ImageDifference>, ApiError> {
    let (one, one_body) = find(&app, &person, &one).await?;
    let (other, other_body) = find(&app, &person, &other).await?;
    let packages = package_changes(&one_body.packages, &other_body.packages);
    let (before, after) = (files(&app, &one, &one_body).await?, files(&app, &other, &other_body).await?);
    let compare = move || {
        let merged = |layers: &[Vec<Entry>]| -> BTreeMap<String, Entry> {
            let merged = merge(layers.iter().map(Vec::as_slice));
            merged.into_iter().map(|(path, entry)| (path.to_owned(), entry.clone())).collect()
        };
        let (before, after) = (merged(&before), merged(&after));
        fn lent(all: &BTreeMap<String, Entry>) -> BTreeMap<&str, &Entry> {
            all.iter().map(|(path, entry)| (path.as_str(), entry)).collect()
        }
        file_changes(&lent(&before), &lent(&after))
    };
    let mut files = off_thread(compare).await;
    let more_files = files.len().saturating_sub(MOST_FILES) as u64;
    files.truncate(MOST_FILES);
    let name = |image: &ImageSummary| format!("{}@{}", image.repository, image.digest);
    Ok(Json(ImageDifference { one: name(&one), other: name(&other), packages, files, more_files }))
}

/// The newest images of all branches, bases in front of those built on them, with what is behind.
#[utoipa::path(get, path = "/api/v1/images/chain", tag = "images",
    responses((status = 200, body = ImageChain), (status = 401, body = Problem)))]
pub(super) async fn chain(State(app): Shared, person: Person) -> Result<Json<ImageChain>, ApiError> {
    let mut images = app.queries.newest_images().await?;
    images.retain(|(link, _)| person.may_see(&link.project));
    Ok(Json(ImageChain { links: in_order(images) }))
}

/// Puts those that are built on others behind them.
fn in_order(all: Vec<(ChainLink, Vec<String>)>) -> Vec<ChainLink> {
    let names: Vec<Vec<String>> =
        all.iter().map(|(link, tags)| tags.iter().map(|tag| format!("{}:{tag}", link.repository)).collect()).collect();
    let parent = |place: usize| {
        let base = all[place].0.base.as_ref()?;
        names.iter().position(|names| names.contains(base)).filter(|parent| *parent != place)
    };
    let parents: Vec<Option<usize>> = (0..all.len()).map(parent).collect();
    let mut ordered = Vec::new();
    let mut waiting: Vec<(usize, u32)> =
        (0..all.len()).filter(|place| parents[*place].is_none()).map(|at| (at, 0)).collect();
    waiting.reverse();
    let mut seen = vec![false; all.len()];
    loop {
        let Some((place, depth)) = waiting.pop() else {
            // Images that are built on each other, in a circle, have no first.
            match seen.iter().position(|seen| !seen) {
                Some(place) => waiting.push((place, 0)),
                None => break,
            }
            continue;
        };
        if std::mem::replace(&mut seen[place], true) {
            continue;
        }
        ordered.push(ChainLink { depth, ..all[place].0.clone() });
        let children = (0..all.len()).rev().filter(|child| parents[*child] == Some(place));
        waiting.extend(children.map(|child| (child, depth + 1)));
    }
    ordered
}

/// Whether the project of a run, `PROJECT#NUMBER`, may be seen.
fn run_is_seen(person: &Person, run: &str) -> bool {
    run.split_once('#').is_some_and(|(project, _)| person.may_see(project))
}

/// The repository that a name, or the end of one, means, among those with images of projects that are seen.
async fn repository(app: &super::App, seen: Option<&[String]>, name: &str) -> Result<String, ApiError> {
    let mut found = app.queries.repositories(name).await?;
    if let Some(seen) = seen {
        let mut of_seen = Vec::new();
        for repository in found {
            if !app.queries.images_of(seen.to_vec(), Some(repository.clone()), 1).await?.is_empty() {
                of_seen.push(repository);
            }
        }
        found = of_seen;
    }
    match found.as_slice() {
        [one] => Ok(one.clone()),
        [] => Err(ApiError::not_found(format!("image `{name}` that a run here pushed; see `pondrix image list`"))),
        several if several.contains(&name.to_owned()) => Ok(name.to_owned()),
        several => Err(ApiError::bad(format!("`{name}` may be {}; write more of it", several.join(" or ")))),
    }
}

/// The image that a name means.
async fn find(app: &super::App, person: &Person, name: &str) -> Result<(ImageSummary, ImageBody), ApiError> {
    let slash = name.rfind('/').map_or(0, |slash| slash + 1);
    let (rest, digest) = name.split_once('@').map_or((name, None), |(rest, digest)| (rest, Some(digest.to_owned())));
    let colon = rest[slash.min(rest.len())..].rfind(':').map(|colon| slash + colon);
    let (rest, tag) = colon.map_or((rest, None), |colon| (&rest[..colon], Some(rest[colon + 1..].to_owned())));
    let seen = projects::all_seen(app, person).await?;
    let repository = repository(app, seen.as_deref(), rest).await?;
    let missing = || ApiError::not_found(format!("image `{name}` that a run here pushed; see `pondrix image list`"));
    let digest = match (digest, tag) {
        (Some(digest), _) if digest.starts_with("sha256:") => Some(digest),
        (Some(digest), _) => Some(format!("sha256:{digest}")),
        (None, Some(tag)) => Some(app.queries.tagged(&repository, &tag).await?.ok_or_else(missing)?),
        (None, None) => None,
    };
    let found = app.queries.image(&repository, digest).await?;
    found.filter(|(image, _)| run_is_seen(person, &image.run)).ok_or_else(missing)
}

/// The files of an image's layers, the lowest first.
async fn files(app: &super::App, image: &ImageSummary, body: &ImageBody) -> Result<Vec<Vec<Entry>>, ApiError> {
    let layers = body.layers.iter().map(|layer| layer.diff_id.clone()).collect();
    let missing = || ApiError::not_found(format!("list of the files of {}@{}", image.repository, image.digest));
    app.queries.listings(layers).await?.ok_or_else(missing)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bases_stand_in_front_of_those_built_on_them_and_a_circle_is_told_once() {
        let link = |name: &str, base: Option<&str>| {
            let link = ChainLink {
                depth: 0,
                project: name.to_owned(),
                branch: "main".to_owned(),
                job: "j".to_owned(),
                repository: format!("x.test/{name}"),
                digest: String::new(),
                run: String::new(),
                base: base.map(|base| format!("x.test/{base}:1")),
                state: "current".to_owned(),
                behind_since: None,
            };
            (link, vec!["1".to_owned()])
        };
        let told =
            |all| -> Vec<(String, u32)> { in_order(all).into_iter().map(|link| (link.project, link.depth)).collect() };
        let all = vec![
            link("desk", Some("web")),
            link("labels", Some("shell")),
            link("shell", None),
            link("web", Some("shell")),
        ];
        let expected = [("shell", 0), ("labels", 1), ("web", 1), ("desk", 2)];
        assert_eq!(told(all), expected.map(|(name, depth)| (name.to_owned(), depth)));
        assert_eq!(told(vec![link("a", Some("b")), link("b", Some("a"))]).len(), 2);
    }
}
