//! Images that runs pushed: what is in them, what their tags meant, what runs them.

use std::collections::BTreeMap;

use pondrix_api::{BaseFacts, ChainLink, ImageRecord, ImageSummary, IndexRecord, LayerView, TagChange};
use pondrix_core::image::{Digest, Entry, Package, Repository, Tag};
use pondrix_core::{JobKey, Time};
use rusqlite::{Connection, OptionalExtension, Row, params};
use serde::{Deserialize, Serialize};

use super::StoreError;
use super::retention::forget_old_releases;

/// As zstd(1) does it when nothing is said.
const LEVEL: i32 = 3;

/// What is kept of an image besides its summary.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub(crate) struct Body {
    pub(crate) layers: Vec<LayerView>,
    pub(crate) packages: Vec<Package>,
    #[serde(default)]
    pub(crate) labels: BTreeMap<String, String>,
    #[serde(default)]
    pub(crate) of_base: Option<BaseFacts>,
}

fn packed(value: &impl Serialize) -> Result<Vec<u8>, StoreError> {
    Ok(zstd::encode_all(&serde_json::to_vec(value)?[..], LEVEL).map_err(serde_json::Error::io)?)
}

fn unpacked<T: for<'a> Deserialize<'a>>(bytes: &[u8]) -> Result<T, StoreError> {
    Ok(serde_json::from_slice(&zstd::decode_all(bytes).map_err(serde_json::Error::io)?)?)
}

/// An image in the form in which it is stored: made before it is written, so that no other write waits for that.
#[derive(Debug)]
pub(crate) struct PackedRecord {
    record: ImageRecord,
    body: Vec<u8>,
}

/// The files of a layer in the form in which they are stored.
#[derive(Debug)]
pub(crate) struct PackedListing(Vec<u8>);

impl PackedRecord {
    pub(crate) fn new(record: ImageRecord) -> Result<Self, StoreError> {
        let ImageRecord { layers, packages, labels, of_base, .. } = record.clone();
        let body = Body { layers, packages, labels, of_base };
        Ok(Self { body: packed(&body)?, record })
    }
}

impl PackedListing {
    pub(crate) fn new(files: &[Entry]) -> Result<Self, StoreError> {
        Ok(Self(packed(&files)?))
    }
}

/// Keeps an image that a job pushes. One that was pushed before stays as it is.
pub(crate) fn put_record(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    packed: &PackedRecord,
    now: Time,
) -> Result<(), StoreError> {
    let PackedRecord { record, body } = packed;
    let size: u64 = record.layers.iter().map(|layer| layer.size).sum();
    connection
        .prepare_cached(
            "INSERT INTO image_records (repository, digest, run, job, created, base, base_digest, size, packages, body)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10) ON CONFLICT DO NOTHING",
        )?
        .execute(params![
            record.repository.to_string(),
            record.digest.to_string(),
            run,
            job.as_str(),
            now.millis(),
            record.base.as_ref().map(|(name, _)| name.as_str()),
            record.base.as_ref().map(|(_, digest)| digest.to_string()),
            i64::try_from(size).unwrap_or(i64::MAX),
            record.packages.len() as i64,
            body,
        ])?;
    for layer in &record.layers {
        put_layer(connection, &layer.diff_id, &record.repository.to_string(), &record.digest.to_string())?;
    }
    Ok(())
}

fn put_layer(connection: &Connection, layer: &Digest, repository: &str, digest: &str) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "INSERT INTO image_layers (diff_id, repository, digest) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING",
        )?
        .execute(params![layer.to_string(), repository, digest])?;
    Ok(())
}

/// Notes the layers of images from before they were noted.
pub(super) fn note_layers(connection: &Connection) -> Result<(), StoreError> {
    let mut statement = connection.prepare("SELECT repository, digest, body FROM image_records")?;
    let rows = statement
        .query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, Vec<u8>>(2)?)))?;
    for row in rows {
        let (repository, digest, body) = row?;
        for layer in unpacked::<Body>(&body)?.layers {
            put_layer(connection, &layer.diff_id, &repository, &digest)?;
        }
    }
    Ok(())
}

/// Removes an image that a run pushed which is removed, with the lists of files of layers that no other image has; or
/// notes that it is the image of another run, where another has pushed it too.
pub(super) fn remove_image(
    connection: &Connection,
    run: i64,
    repository: &str,
    digest: &str,
) -> Result<(), StoreError> {
    let other = "SELECT coalesce(
        (SELECT max(coalesce(last_run, run)) FROM image_tags WHERE repository = ?1 AND digest = ?2),
        (SELECT max(run) FROM images WHERE repository = ?1 AND digest = ?2 AND run <> ?3))";
    let other: Option<i64> =
        connection.prepare_cached(other)?.query_row(params![repository, digest, run], |row| row.get(0))?;
    if let Some(other) = other {
        connection
            .prepare_cached("UPDATE image_records SET run = ?3 WHERE repository = ?1 AND digest = ?2")?
            .execute(params![repository, digest, other])?;
        return Ok(());
    }
    connection
        .prepare_cached("DELETE FROM image_records WHERE repository = ?1 AND digest = ?2")?
        .execute(params![repository, digest])?;
    let mut gone = connection
        .prepare_cached("DELETE FROM image_layers WHERE repository = ?1 AND digest = ?2 RETURNING diff_id")?;
    let gone: Vec<String> = gone.query_map(params![repository, digest], |row| row.get(0))?.collect::<Result<_, _>>()?;
    for layer in gone {
        connection
            .prepare_cached(
                "DELETE FROM layer_listings WHERE diff_id = ?1
                 AND NOT EXISTS (SELECT 1 FROM image_layers WHERE diff_id = ?1)",
            )?
            .execute([layer])?;
    }
    Ok(())
}

/// Keeps an index of images; what is told of it is what was told of one of them.
pub(crate) fn put_index(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    record: &IndexRecord,
    now: Time,
) -> Result<(), StoreError> {
    connection
        .prepare_cached(
            "INSERT INTO image_records (repository, digest, run, job, created, base, base_digest, size, packages, body)
         SELECT repository, ?2, ?4, ?5, ?6, base, base_digest, size, packages, body
         FROM image_records WHERE repository = ?1 AND digest = ?3 ON CONFLICT DO NOTHING",
        )?
        .execute(params![
            record.repository.to_string(),
            record.digest.to_string(),
            record.image.to_string(),
            run,
            job.as_str(),
            now.millis(),
        ])?;
    connection
        .prepare_cached(
            "INSERT INTO image_layers (diff_id, repository, digest)
             SELECT diff_id, repository, ?2 FROM image_layers WHERE repository = ?1 AND digest = ?3 ON CONFLICT DO NOTHING",
        )?
        .execute(params![record.repository.to_string(), record.digest.to_string(), record.image.to_string()])?;
    Ok(())
}

/// Tags name this image now.
pub(crate) fn put_tags(
    connection: &Connection,
    run: i64,
    repository: &Repository,
    digest: &Digest,
    tags: &[Tag],
    now: Time,
) -> Result<(), StoreError> {
    for tag in tags {
        connection
            .prepare_cached(
                "UPDATE image_tags SET last_run = ?4 WHERE digest = ?3 AND id = (
                 SELECT id FROM image_tags WHERE repository = ?1 AND tag = ?2 ORDER BY id DESC LIMIT 1)",
            )?
            .execute(params![repository.to_string(), tag.as_str(), digest.to_string(), run])?;
        connection
            .prepare_cached(
                "INSERT INTO image_tags (repository, tag, digest, run, at)
             SELECT ?1, ?2, ?3, ?4, ?5 WHERE ?3 IS NOT (
                 SELECT digest FROM image_tags WHERE repository = ?1 AND tag = ?2 ORDER BY id DESC LIMIT 1)",
            )?
            .execute(params![repository.to_string(), tag.as_str(), digest.to_string(), run, now.millis()])?;
    }
    Ok(())
}

/// The layers of these whose files are not known.
pub(crate) fn unlisted(connection: &Connection, layers: Vec<Digest>) -> Result<Vec<Digest>, StoreError> {
    let mut known = connection.prepare_cached("SELECT 1 FROM layer_listings WHERE diff_id = ?1")?;
    let mut missing = Vec::new();
    for layer in layers {
        if !known.exists([layer.to_string()])? {
            missing.push(layer);
        }
    }
    Ok(missing)
}

/// Keeps the files of a layer.
pub(crate) fn put_listing(
    connection: &Connection,
    layer: &Digest,
    PackedListing(body): &PackedListing,
) -> Result<(), StoreError> {
    connection
        .prepare_cached("INSERT INTO layer_listings (diff_id, body) VALUES (?1, ?2) ON CONFLICT DO NOTHING")?
        .execute(params![layer.to_string(), body])?;
    Ok(())
}

/// The files of a layer; none where they are not known.
pub(crate) fn listing(connection: &Connection, layer: &Digest) -> Result<Vec<Entry>, StoreError> {
    let question = "SELECT body FROM layer_listings WHERE diff_id = ?1";
    let body = connection
        .prepare_cached(question)?
        .query_row([layer.to_string()], |row| row.get::<_, Vec<u8>>(0))
        .optional()?;
    body.map_or(Ok(Vec::new()), |body| unpacked(&body))
}

/// An environment runs this image now. What it ran before it can return to, for a few times.
pub(crate) fn put_running(
    connection: &Connection,
    run: i64,
    job: &JobKey,
    environment: &str,
    image: &str,
) -> Result<(), StoreError> {
    let question = "SELECT project FROM runs WHERE id = ?1";
    let project: i64 = connection.prepare_cached(question)?.query_row([run], |row| row.get(0))?;
    connection
        .prepare_cached("INSERT INTO releases (environment, project, job, image, run) VALUES (?1, ?2, ?3, ?4, ?5)")?
        .execute(params![environment, project, job.as_str(), image, run])?;
    forget_old_releases(connection, environment, project, job.as_str())
}

/// What is an image's own, without its long parts.
const OWN: &str = "i.repository, i.digest, i.run, i.job, i.created, i.base, i.base_digest, i.size, i.packages";

/// What lists show of images, of which `which` says how they are chosen and in what order; few, since each is looked at
/// from all sides.
fn summaries(which: &str) -> String {
    // `CROSS JOIN` keeps the order: each image, then its run.
    format!(
        "SELECT i.repository, i.digest, i.created, p.name || '#' || r.number, i.job, r.commit_id, i.size, i.packages,
            i.base, i.base_digest, b.digest, b.moved,
            (SELECT group_concat(tag, ' ') FROM image_tags t WHERE t.repository = i.repository AND t.digest = i.digest
             AND t.id = (SELECT max(id) FROM image_tags o WHERE o.repository = t.repository AND o.tag = t.tag)),
            (SELECT group_concat(DISTINCT environment) FROM releases e INDEXED BY releases_of_image
             WHERE e.image = i.repository || '@' || i.digest AND e.id = (SELECT max(id) FROM releases n
                WHERE n.environment = e.environment AND n.project = e.project AND n.job = e.job))
         FROM ({which}) i CROSS JOIN runs r ON r.id = i.run CROSS JOIN projects p ON p.id = r.project
         LEFT JOIN bases b ON b.name = i.base"
    )
}

fn split(text: Option<String>, by: char) -> Vec<String> {
    text.map_or(Vec::new(), |text| text.split(by).map(str::to_owned).collect())
}

fn summary(row: &Row<'_>) -> rusqlite::Result<ImageSummary> {
    let base_digest: Option<String> = row.get(9)?;
    let base_now = row.get::<_, Option<String>>(10)?.filter(|now| base_digest.as_ref().is_some_and(|then| then != now));
    let moved = row.get::<_, Option<i64>>(11)?.map(Time::from_millis);
    Ok(ImageSummary {
        repository: row.get(0)?,
        digest: row.get(1)?,
        created: Time::from_millis(row.get(2)?),
        run: row.get(3)?,
        job: row.get(4)?,
        commit: row.get(5)?,
        size: row.get::<_, i64>(6)?.cast_unsigned(),
        packages: row.get::<_, i64>(7)?.cast_unsigned(),
        base: row.get(8)?,
        base_digest,
        behind_since: moved.filter(|_| base_now.is_some()),
        base_now,
        tags: split(row.get(12)?, ' '),
        runs_in: split(row.get(13)?, ','),
    })
}

/// Images, the newest first: of a repository, of a project, or all.
pub(crate) fn images(
    connection: &Connection,
    repository: Option<&str>,
    project: Option<&str>,
    most: usize,
) -> Result<Vec<ImageSummary>, StoreError> {
    // Each question is one of its own, with an order that an index has.
    let which = match (repository, project) {
        (Some(_), None) => {
            &format!("SELECT {OWN} FROM image_records i WHERE repository = ?1 ORDER BY created DESC, digest LIMIT ?3")
        }
        (None, None) => &format!("SELECT {OWN} FROM image_records i ORDER BY created DESC, digest LIMIT ?3"),
        (repository, Some(_)) => {
            let of_repository = if repository.is_some() { "AND i.repository = ?1" } else { "" };
            &format!(
                "SELECT {OWN} FROM runs o CROSS JOIN image_records i ON i.run = o.id
                 WHERE o.project = (SELECT id FROM projects WHERE name = ?2) {of_repository}
                 ORDER BY o.id DESC, i.created DESC, i.digest LIMIT ?3"
            )
        }
    };
    let mut statement = connection.prepare_cached(&summaries(which))?;
    let rows = statement.query_map(params![repository, project, most as i64], summary)?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The repositories that have this name, or end with it.
pub(crate) fn repositories(connection: &Connection, name: &str) -> Result<Vec<String>, StoreError> {
    // From one repository to the next, and not over all images of each.
    let mut statement = connection.prepare_cached(
        "WITH RECURSIVE n (repository) AS (
             SELECT min(repository) FROM image_records
             UNION ALL
             SELECT (SELECT min(repository) FROM image_records i WHERE i.repository > n.repository) FROM n
             WHERE n.repository IS NOT NULL)
         SELECT repository FROM n
         WHERE repository = ?1 OR substr(repository, -length(?1) - 1) = '/' || ?1 ORDER BY repository",
    )?;
    let rows = statement.query_map([name], |row| row.get(0))?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The digest that a tag of a repository names now.
pub(crate) fn tagged(connection: &Connection, repository: &str, tag: &str) -> Result<Option<String>, StoreError> {
    let question = "SELECT digest FROM image_tags WHERE repository = ?1 AND tag = ?2 ORDER BY id DESC LIMIT 1";
    Ok(connection.prepare_cached(question)?.query_row(params![repository, tag], |row| row.get(0)).optional()?)
}

/// One image, by its digest or the beginning of it; the newest where none is said.
pub(crate) fn image(
    connection: &Connection,
    repository: &str,
    digest: Option<&str>,
) -> Result<Option<(ImageSummary, Body)>, StoreError> {
    let question = summaries(&format!(
        "SELECT {OWN} FROM image_records i WHERE repository = ?1 AND (?2 IS NULL OR substr(digest, 1, length(?2)) = ?2)
         ORDER BY created DESC, digest LIMIT 1"
    ));
    let found = connection.prepare_cached(&question)?.query_row(params![repository, digest], summary).optional()?;
    let Some(found) = found else { return Ok(None) };
    let question = "SELECT body FROM image_records WHERE repository = ?1 AND digest = ?2";
    let body: Vec<u8> =
        connection.prepare_cached(question)?.query_row(params![repository, found.digest], |row| row.get(0))?;
    Ok(Some((found, unpacked(&body)?)))
}

/// What the tags of a repository meant, the newest first.
pub(crate) fn tag_changes(
    connection: &Connection,
    repository: &str,
    most: usize,
) -> Result<Vec<TagChange>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT t.tag, t.digest, t.at, p.name || '#' || r.number FROM image_tags t
         JOIN runs r ON r.id = t.run JOIN projects p ON p.id = r.project
         WHERE t.repository = ?1 ORDER BY t.id DESC LIMIT ?2",
    )?;
    let rows = statement.query_map(params![repository, most as i64], |row| {
        Ok(TagChange { tag: row.get(0)?, digest: row.get(1)?, at: Time::from_millis(row.get(2)?), run: row.get(3)? })
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}

/// The newest image of each branch and job, and the tags that name it; in no order.
pub(crate) fn newest(connection: &Connection) -> Result<Vec<(ChainLink, Vec<String>)>, StoreError> {
    let mut statement = connection.prepare_cached(
        "SELECT p.name, i.branch, i.job, i.repository, i.digest, p.name || '#' || r.number, i.base, i.base_digest,
                b.digest, b.moved,
                EXISTS (SELECT 1 FROM base_starts s WHERE s.project = i.project AND s.branch = i.branch)
                OR EXISTS (SELECT 1 FROM runs o WHERE o.project = i.project AND o.branch = i.branch AND o.id > i.run
                           AND o.state IN ('queued', 'waiting', 'running')),
                (SELECT group_concat(DISTINCT tag) FROM image_tags t WHERE t.repository = i.repository AND t.digest = i.digest)
         FROM images i JOIN projects p ON p.id = i.project JOIN runs r ON r.id = i.run
         LEFT JOIN bases b ON b.name = i.base ORDER BY p.name, i.branch, i.job, i.repository",
    )?;
    let rows = statement.query_map([], |row| {
        let (then, now): (Option<String>, Option<String>) = (row.get(7)?, row.get(8)?);
        let is_behind = then.is_some() && now.is_some() && then != now;
        let is_starting: bool = row.get(10)?;
        let state = match (is_behind, is_starting) {
            (true, true) => "starting",
            (true, false) => "behind",
            _ => "current",
        };
        let moved = row.get::<_, Option<i64>>(9)?.map(Time::from_millis);
        let link = ChainLink {
            depth: 0,
            project: row.get(0)?,
            branch: row.get(1)?,
            job: row.get(2)?,
            repository: row.get(3)?,
            digest: row.get(4)?,
            run: row.get(5)?,
            base: row.get(6)?,
            state: state.to_owned(),
            behind_since: moved.filter(|_| is_behind),
        };
        Ok((link, split(row.get(11)?, ',')))
    })?;
    Ok(rows.collect::<Result<_, _>>()?)
}
