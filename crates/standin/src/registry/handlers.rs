//! Answers to requests.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::Write;
use std::sync::Arc;

use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{Query, Request, State};
use axum::http::header::{
    AUTHORIZATION, CONTENT_LENGTH, CONTENT_TYPE, IF_MATCH, IF_NONE_MATCH, LINK, LOCATION, RANGE, RETRY_AFTER,
};
use axum::http::{HeaderMap, HeaderName, Method, StatusCode};
use axum::response::{IntoResponse, Response};
use futures_util::StreamExt;
use pondrix_core::image::Digest;
use pondrix_image::digest_of;
use serde_json::json;
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;

use super::state::{Behaviour, Trip};
use super::{Registry, guard, trust};

/// The header that names what was stored (OCI Distribution 1.1, "Pulling manifests").
const CONTENT_DIGEST: HeaderName = HeaderName::from_static("docker-content-digest");
/// The largest manifest: what the specification asks registries for.
const LARGEST_MANIFEST: usize = 4 << 20;

/// A refusal, in the form of OCI Distribution 1.1, "Error Codes".
fn refuse(status: StatusCode, code: &str, message: impl Into<String>) -> Response {
    let body = json!({ "errors": [{ "code": code, "message": message.into() }] });
    (status, [(CONTENT_TYPE, "application/json")], body.to_string()).into_response()
}

fn broken(error: &dyn std::fmt::Display) -> Response {
    refuse(StatusCode::INTERNAL_SERVER_ERROR, "UNKNOWN", error.to_string())
}

type Answer = Result<Response, Response>;

/// What an address is about. Names of repositories have slashes in them, so that only its end tells.
enum Target<'a> {
    Base,
    Blob(&'a str, &'a str),
    Uploads(&'a str),
    Upload(&'a str, &'a str),
    Manifest(&'a str, &'a str),
    Tags(&'a str),
    Referrers(&'a str, &'a str),
}

impl Target<'_> {
    const fn kind(&self) -> &'static str {
        match self {
            Self::Base => "base",
            Self::Blob(..) => "blob",
            Self::Uploads(_) => "uploads",
            Self::Upload(..) => "upload",
            Self::Manifest(..) => "manifest",
            Self::Tags(_) => "tags",
            Self::Referrers(..) => "referrers",
        }
    }

    const fn repository(&self) -> Option<&str> {
        match self {
            Self::Base => None,
            Self::Blob(name, _)
            | Self::Uploads(name)
            | Self::Upload(name, _)
            | Self::Manifest(name, _)
            | Self::Tags(name)
            | Self::Referrers(name, _) => Some(name),
        }
    }
}

fn target(path: &str) -> Option<Target<'_>> {
    let rest = path.strip_prefix("/v2")?;
    let rest = rest.strip_prefix('/').unwrap_or(rest);
    if rest.is_empty() {
        return Some(Target::Base);
    }
    if let Some(name) = rest.strip_suffix("/tags/list") {
        return Some(Target::Tags(name));
    }
    if let Some((name, subject)) = rest.rsplit_once("/referrers/") {
        return Some(Target::Referrers(name, subject));
    }
    if let Some((name, upload)) = rest.rsplit_once("/blobs/uploads/") {
        return Some(if upload.is_empty() { Target::Uploads(name) } else { Target::Upload(name, upload) });
    }
    if let Some(name) = rest.strip_suffix("/blobs/uploads") {
        return Some(Target::Uploads(name));
    }
    if let Some((name, digest)) = rest.rsplit_once("/blobs/") {
        return Some(Target::Blob(name, digest));
    }
    rest.rsplit_once("/manifests/").map(|(name, version)| Target::Manifest(name, version))
}

pub(super) async fn handle(
    registry: State<Arc<Registry>>,
    query: Query<HashMap<String, String>>,
    request: Request,
) -> Response {
    let path = request.uri().path();
    let kind = if path == "/token" { "token" } else { target(path).map_or("nothing", |target| target.kind()) };
    let kind = format!("{} {kind}", request.method());
    let repository = target(path).and_then(|target| target.repository().map(str::to_owned));
    if let Some(refusal) = guard::refusal(&registry, repository.as_deref(), request.method(), request.headers())
        && path.starts_with("/v2")
    {
        return refusal;
    }
    if let Some(refusal) = trust::refusal(&registry, repository.as_deref(), request.method(), request.headers()).await {
        return refusal;
    }
    let trip = registry.inner().trips.remove(&kind);
    // The task of the connection ends with this, and so does the connection; nobody is told of a panic.
    let reset = || std::panic::resume_unwind(Box::new("the connection ends here"));
    match trip {
        None => answer(registry, query, request).await,
        // As to somebody who shows nothing that is good any more.
        Some(Trip::Status(401)) if path != "/token" => {
            let mut headers = request.headers().clone();
            headers.remove(AUTHORIZATION);
            let refusal = guard::refusal(&registry, repository.as_deref(), request.method(), &headers);
            refusal.unwrap_or_else(|| StatusCode::UNAUTHORIZED.into_response())
        }
        Some(Trip::Status(status)) => {
            let status = StatusCode::from_u16(status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
            refuse(status, "UNKNOWN", "it trips here")
        }
        Some(Trip::Reset) => reset(),
        Some(Trip::ResetAfter) => {
            answer(registry, query, request).await;
            reset()
        }
        Some(Trip::NoLocation) => {
            let mut answered = answer(registry, query, request).await;
            answered.headers_mut().remove(LOCATION);
            answered
        }
    }
}

async fn answer(
    State(registry): State<Arc<Registry>>,
    Query(query): Query<HashMap<String, String>>,
    request: Request,
) -> Response {
    let (parts, body) = request.into_parts();
    let path = parts.uri.path().to_owned();
    let writes = !matches!(parts.method, Method::GET | Method::HEAD);
    let behaviour = registry.inner().behaviour.clone();
    if let Behaviour::RefusesPushes(words) = &behaviour
        && writes
    {
        return refuse(StatusCode::FORBIDDEN, "DENIED", words.clone());
    }
    if path == "/token" {
        return guard::token(&registry, &parts.uri, &parts.headers);
    }
    {
        let mut inner = registry.inner();
        if inner.busy > 0 {
            inner.busy -= 1;
            return (StatusCode::SERVICE_UNAVAILABLE, [(RETRY_AFTER, "0")]).into_response();
        }
    }
    let Some(target) = target(&path) else {
        return refuse(StatusCode::NOT_FOUND, "UNSUPPORTED", "there is nothing at this address");
    };
    let answer = match (target, parts.method) {
        (Target::Base, _) => Ok(StatusCode::OK.into_response()),
        (Target::Blob(name, digest), Method::GET) => {
            blob(&registry, name, digest, Some(&parts.headers), &behaviour).await
        }
        (Target::Blob(name, digest), Method::HEAD) => blob(&registry, name, digest, None, &behaviour).await,
        (Target::Uploads(name), Method::POST) => begin_upload(&registry, name, &query, &parts.headers, body).await,
        (Target::Upload(name, id), Method::PATCH) => add_to_upload(&registry, name, id, &parts.headers, body).await,
        (Target::Upload(name, id), Method::PUT) => end_upload(&registry, name, id, &query, body).await,
        (Target::Upload(name, id), Method::GET) => upload_status(&registry, name, id),
        (Target::Upload(_, id), Method::DELETE) => {
            registry.inner().uploads.remove(id);
            let _ = fs::remove_file(registry.upload_path(id));
            Ok(StatusCode::NO_CONTENT.into_response())
        }
        (Target::Manifest(name, version), method @ (Method::GET | Method::HEAD)) => {
            manifest(&registry, name, version, method == Method::GET)
        }
        (Target::Manifest(name, version), Method::PUT) => {
            put_manifest(&registry, name, version, &parts.headers, body, &behaviour).await
        }
        (Target::Tags(name), Method::GET) => tags(&registry, name, &query),
        (Target::Referrers(name, subject), Method::GET) => referrers(&registry, name, subject),
        _ => Err(refuse(StatusCode::METHOD_NOT_ALLOWED, "UNSUPPORTED", "this cannot be done here")),
    };
    answer.unwrap_or_else(|refusal| refusal)
}

fn parse(digest: &str) -> Result<Digest, Response> {
    digest.parse().map_err(|error| refuse(StatusCode::BAD_REQUEST, "DIGEST_INVALID", format!("{error}")))
}

/// A blob, from the byte on that is asked for; only its size without the headers of who asks for it.
async fn blob(
    registry: &Registry,
    name: &str,
    digest: &str,
    asked: Option<&HeaderMap>,
    behaviour: &Behaviour,
) -> Answer {
    let digest = parse(digest)?;
    let there = registry.inner().repositories.get(name).is_some_and(|repository| repository.blobs.contains(&digest));
    if !there {
        return Err(refuse(StatusCode::NOT_FOUND, "BLOB_UNKNOWN", format!("{name} has no {digest}")));
    }
    let path = registry.blob_path(&digest);
    let length = fs::metadata(&path).map_err(|error| broken(&error))?.len();
    let headers = [(CONTENT_LENGTH, length.to_string()), (CONTENT_DIGEST, digest.to_string())];
    let Some(asked) = asked else { return Ok((headers, Body::empty()).into_response()) };
    if let Some(address) = registry.inner().blobs_at.clone() {
        return Ok((StatusCode::TEMPORARY_REDIRECT, [(LOCATION, format!("{address}/{digest}"))]).into_response());
    }
    if *behaviour == Behaviour::HasNoTimeForBlobs {
        return Err(refuse(StatusCode::SERVICE_UNAVAILABLE, "UNAVAILABLE", "not now"));
    }
    if *behaviour == Behaviour::GivesWrongBlobs {
        let bytes = vec![b'?'; usize::try_from(length).unwrap_or(0)];
        return Ok((headers, bytes).into_response());
    }
    let range = asked.get(RANGE).and_then(|range| range.to_str().ok()?.strip_prefix("bytes=")?.strip_suffix('-'));
    let start = range.and_then(|start| start.parse::<u64>().ok()).unwrap_or(0);
    let mut file = tokio::fs::File::open(path).await.map_err(|error| broken(&error))?;
    file.seek(std::io::SeekFrom::Start(start)).await.map_err(|error| broken(&error))?;
    let breaks_after = {
        let mut inner = registry.inner();
        inner.blobs_given += 1;
        inner.breaks_after.take()
    };
    let status = if start == 0 { StatusCode::OK } else { StatusCode::PARTIAL_CONTENT };
    let length = [(CONTENT_LENGTH, (length - start).to_string()), (CONTENT_DIGEST, digest.to_string())];
    let whole = ReaderStream::with_capacity(file.take(breaks_after.unwrap_or(u64::MAX)), 128 * 1024);
    let end = breaks_after.map(|_| Err(std::io::Error::other("it breaks off here")));
    Ok((status, length, Body::from_stream(whole.chain(futures_util::stream::iter(end)))).into_response())
}

/// What is attached to an image.
fn referrers(registry: &Registry, name: &str, subject: &str) -> Answer {
    let inner = registry.inner();
    if !inner.knows_referrers {
        return Err(refuse(StatusCode::NOT_FOUND, "UNSUPPORTED", "it keeps no such lists"));
    }
    let manifests = inner.repositories.get(name).map(|repository| repository.manifests.keys().cloned());
    let attached = manifests.into_iter().flatten().filter_map(|digest| {
        let bytes = fs::read(registry.blob_path(&digest)).ok()?;
        let document: serde_json::Value = serde_json::from_slice(&bytes).ok()?;
        (document["subject"]["digest"] == subject).then(|| {
            json!({ "mediaType": document["mediaType"], "digest": digest, "size": bytes.len(),
                    "artifactType": document["artifactType"], "annotations": document["annotations"].as_object().cloned().unwrap_or_default() })
        })
    });
    let kind = "application/vnd.oci.image.index.v1+json";
    let index = json!({ "schemaVersion": 2, "mediaType": kind, "manifests": attached.collect::<Vec<_>>() });
    Ok(([(CONTENT_TYPE, kind)], index.to_string()).into_response())
}

/// Writes a body to the end of an upload's file; answers how long it is then.
async fn append(registry: &Registry, id: &str, body: Body) -> Result<u64, Response> {
    let path = registry.upload_path(id);
    let mut file = File::options().create(true).append(true).open(path).map_err(|error| broken(&error))?;
    let mut stream = body.into_data_stream();
    let breaks_after = registry.inner().breaks_after;
    let mut taken = 0;
    while let Some(chunk) = stream.next().await {
        let chunk: Bytes = chunk.map_err(|error| broken(&error))?;
        file.write_all(&chunk).map_err(|error| broken(&error))?;
        taken += chunk.len() as u64;
        if breaks_after.is_some_and(|bytes| taken >= bytes) {
            let length = file.metadata().map_err(|error| broken(&error))?.len();
            let mut inner = registry.inner();
            inner.breaks_after = None;
            inner.uploads.insert(id.to_owned(), length);
            return Err(broken(&"it breaks off here"));
        }
    }
    let length = file.metadata().map_err(|error| broken(&error))?.len();
    registry.inner().uploads.insert(id.to_owned(), length);
    Ok(length)
}

fn upload_headers(name: &str, id: &str, length: u64) -> [(HeaderName, String); 2] {
    [(LOCATION, format!("/v2/{name}/blobs/uploads/{id}")), (RANGE, format!("0-{}", length.saturating_sub(1)))]
}

async fn begin_upload(
    registry: &Registry,
    name: &str,
    query: &HashMap<String, String>,
    headers: &HeaderMap,
    body: Body,
) -> Answer {
    // Who may not pull from the other repository sends the bytes.
    let mount = query.get("mount").zip(query.get("from")).filter(|(_, from)| guard::may_pull(registry, from, headers));
    if let Some((digest, from)) = mount {
        let digest = parse(digest)?;
        let mut inner = registry.inner();
        if inner.repository(from).blobs.contains(&digest) {
            inner.repository(name).blobs.insert(digest.clone());
            return Ok(created(&format!("/v2/{name}/blobs/{digest}"), &digest));
        }
    }
    let id = registry.inner().new_upload();
    if let Some(digest) = query.get("digest") {
        append(registry, &id, body).await?;
        return finish(registry, name, &id, &parse(digest)?);
    }
    Ok((StatusCode::ACCEPTED, upload_headers(name, &id, 0)).into_response())
}

fn created(location: &str, digest: &Digest) -> Response {
    (StatusCode::CREATED, [(LOCATION, location.to_owned()), (CONTENT_DIGEST, digest.to_string())]).into_response()
}

fn upload_length(registry: &Registry, id: &str) -> Result<u64, Response> {
    let known = registry.inner().uploads.get(id).copied();
    known.ok_or_else(|| refuse(StatusCode::NOT_FOUND, "BLOB_UPLOAD_UNKNOWN", format!("there is no upload {id}")))
}

fn upload_status(registry: &Registry, name: &str, id: &str) -> Answer {
    let length = upload_length(registry, id)?;
    registry.inner().asked_how_far += 1;
    Ok((StatusCode::NO_CONTENT, upload_headers(name, id, length)).into_response())
}

async fn add_to_upload(registry: &Registry, name: &str, id: &str, headers: &HeaderMap, body: Body) -> Answer {
    let length = upload_length(registry, id)?;
    let range = headers.get("content-range").and_then(|range| range.to_str().ok());
    let start = range.and_then(|range| range.split('-').next()?.trim().parse::<u64>().ok());
    if start.is_some_and(|start| start != length) {
        let words = format!("the next byte is {length}");
        return Err(refuse(StatusCode::RANGE_NOT_SATISFIABLE, "BLOB_UPLOAD_INVALID", words));
    }
    let length = append(registry, id, body).await?;
    Ok((StatusCode::ACCEPTED, upload_headers(name, id, length)).into_response())
}

async fn end_upload(registry: &Registry, name: &str, id: &str, query: &HashMap<String, String>, body: Body) -> Answer {
    upload_length(registry, id)?;
    let digest = query.get("digest").ok_or_else(|| refuse(StatusCode::BAD_REQUEST, "DIGEST_INVALID", "no digest"))?;
    let digest = parse(digest)?;
    append(registry, id, body).await?;
    finish(registry, name, id, &digest)
}

fn finish(registry: &Registry, name: &str, id: &str, digest: &Digest) -> Answer {
    let path = registry.upload_path(id);
    let bytes = fs::read(&path).map_err(|error| broken(&error))?;
    let found = digest_of(&bytes);
    let mut inner = registry.inner();
    inner.uploads.remove(id);
    if found != *digest {
        let _ = fs::remove_file(&path);
        return Err(refuse(StatusCode::BAD_REQUEST, "DIGEST_INVALID", format!("these bytes are {found}")));
    }
    fs::rename(&path, registry.blob_path(digest)).map_err(|error| broken(&error))?;
    inner.repository(name).blobs.insert(digest.clone());
    inner.blobs_received += 1;
    Ok(created(&format!("/v2/{name}/blobs/{digest}"), digest))
}

fn manifest(registry: &Registry, name: &str, version: &str, with_body: bool) -> Answer {
    let unknown = || refuse(StatusCode::NOT_FOUND, "MANIFEST_UNKNOWN", format!("{name} has no {version}"));
    let (digest, kind) = {
        let inner = registry.inner();
        let repository = inner.repositories.get(name).ok_or_else(unknown)?;
        let digest = match version.parse::<Digest>() {
            Ok(digest) => digest,
            Err(_) => repository.tags.get(version).cloned().ok_or_else(unknown)?,
        };
        let kind = repository.manifests.get(&digest).cloned().ok_or_else(unknown)?;
        (digest, kind)
    };
    let bytes = fs::read(registry.blob_path(&digest)).map_err(|error| broken(&error))?;
    let headers =
        [(CONTENT_TYPE, kind), (CONTENT_LENGTH, bytes.len().to_string()), (CONTENT_DIGEST, digest.to_string())];
    Ok((headers, if with_body { Body::from(bytes) } else { Body::empty() }).into_response())
}

async fn put_manifest(
    registry: &Registry,
    name: &str,
    version: &str,
    headers: &HeaderMap,
    body: Body,
    behaviour: &Behaviour,
) -> Answer {
    let bytes = to_bytes(body, LARGEST_MANIFEST).await;
    let bytes = bytes.map_err(|error| refuse(StatusCode::PAYLOAD_TOO_LARGE, "SIZE_INVALID", error.to_string()))?;
    let invalid = |words: String| refuse(StatusCode::BAD_REQUEST, "MANIFEST_INVALID", words);
    let document: serde_json::Value = serde_json::from_slice(&bytes).map_err(|error| invalid(error.to_string()))?;
    let kind = headers.get(CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default().to_owned();
    let digest = digest_of(&bytes);
    if version.parse::<Digest>().is_ok_and(|wanted| wanted != digest) {
        return Err(refuse(StatusCode::BAD_REQUEST, "DIGEST_INVALID", format!("these bytes are {digest}")));
    }
    let mut inner = registry.inner();
    if inner.knows_conditions {
        let now = inner.repository(name).tags.get(version).map(|digest| format!("\"{digest}\""));
        let said = |header| headers.get(header).and_then(|value| value.to_str().ok());
        let holds = said(IF_MATCH).is_none_or(|wanted| now.as_deref() == Some(wanted))
            && said(IF_NONE_MATCH).is_none_or(|_| now.is_none());
        if !holds {
            return Err(refuse(StatusCode::PRECONDITION_FAILED, "DENIED", "it is another one meanwhile"));
        }
    }
    let repository = inner.repository(name);
    let parts = document["layers"].as_array().into_iter().flatten().chain([&document["config"]]);
    for part in parts.filter_map(|part| part["digest"].as_str()) {
        if !part.parse::<Digest>().is_ok_and(|part| repository.blobs.contains(&part)) {
            return Err(refuse(StatusCode::NOT_FOUND, "MANIFEST_BLOB_UNKNOWN", format!("{name} has no {part}")));
        }
    }
    fs::write(registry.blob_path(&digest), &bytes).map_err(|error| broken(&error))?;
    repository.manifests.insert(digest.clone(), kind);
    if version.parse::<Digest>().is_err() {
        repository.tags.insert(version.to_owned(), digest.clone());
    }
    let said = if *behaviour == Behaviour::LiesAboutDigests { digest_of(b"something else") } else { digest };
    let mut answer = created(&format!("/v2/{name}/manifests/{version}"), &said);
    let subject = document["subject"]["digest"].as_str().and_then(|subject| subject.parse().ok());
    if let Some(subject) = subject.filter(|_| inner.knows_referrers) {
        answer.headers_mut().insert("oci-subject", subject);
    }
    Ok(answer)
}

fn tags(registry: &Registry, name: &str, query: &HashMap<String, String>) -> Answer {
    let inner = registry.inner();
    let unknown = || refuse(StatusCode::NOT_FOUND, "NAME_UNKNOWN", format!("there is no {name}"));
    let repository = inner.repositories.get(name).ok_or_else(unknown)?;
    let most = query.get("n").and_then(|n| n.parse().ok()).unwrap_or(usize::MAX);
    let after = query.get("last").cloned().unwrap_or_default();
    let mut tags = repository.tags.keys().filter(|tag| **tag > after);
    let page: Vec<_> = tags.by_ref().take(most).collect();
    let body = json!({ "name": name, "tags": page }).to_string();
    let mut answer = ([(CONTENT_TYPE, "application/json")], body).into_response();
    let next = page.last().filter(|_| tags.next().is_some());
    let link = next.map(|last| format!("</v2/{name}/tags/list?n={most}&last={last}>; rel=\"next\""));
    if let Some(link) = link.and_then(|link| link.parse().ok()) {
        answer.headers_mut().insert(LINK, link);
    }
    Ok(answer)
}
