//! Requests to one registry: signing in, trying again, and what is not believed.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Duration;

use futures_util::StreamExt;
use pondrix_core::access::Reach;
use pondrix_core::image::{Access, Account, Registries, Repository};
use pondrix_http::innermost;
use reqwest::header::{LINK, RETRY_AFTER, WWW_AUTHENTICATE};
use reqwest::{Certificate, Client, ClientBuilder, Method, RequestBuilder, Response, StatusCode, Url, redirect};

use super::RegistryError;
use super::error::words_of;
use super::guard::{Guarded, NotReached};
use super::sign_in::{Challenge, Pass, challenge};

/// The longest document taken from a registry: OCI Distribution 1.1, "Pushing Manifests", asks
/// registries for 4 MiB.
const LONGEST_DOCUMENT: usize = 4 << 20;
/// How long a registry may stay silent.
const SILENCE: Duration = Duration::from_secs(30);
/// As many redirects as are followed.
const REDIRECTS: usize = 5;
/// How often a request is made that finds nobody, or somebody who has no time.
const TRIES: u32 = 5;
/// How long to wait before the second time; each time after that twice as long.
const PAUSE: Duration = Duration::from_millis(200);
/// The longest that a registry may ask us to wait.
const LONGEST_PAUSE: Duration = Duration::from_secs(20);

/// A registry.
#[derive(Clone, Debug)]
pub struct Registry {
    host: String,
    address: String,
    access: Access,
    /// Whether it is one that an administrator added, and no host that somebody named.
    is_added: bool,
    client: Client,
    /// What of the network it may be at, and lead to; anything where nothing is said.
    reach: Option<Reach>,
    /// What is shown to it, by the rights that are asked for.
    passes: Arc<Mutex<HashMap<String, Pass>>>,
}

/// What a request does in a repository.
#[derive(Clone, Copy, Debug)]
pub(super) enum Right<'a> {
    Pull,
    Push,
    /// It pushes what another repository of the registry has.
    PushFrom(&'a Repository),
}

/// Why there is no client for a set of certificates.
#[derive(Debug, thiserror::Error)]
pub(super) enum CertificatesError {
    #[error("its certificates are none: {0}")]
    None(#[source] reqwest::Error),
    #[error("its certificates are not taken: {0}")]
    NotTaken(#[source] reqwest::Error),
}

/// One client for each set of certificates and what it reaches: it keeps connections open, and reading the machine's
/// certificates takes longer than most requests.
fn client(certificates: Option<&str>, reach: Option<&Reach>) -> Result<Client, CertificatesError> {
    type Key = (String, Option<Reach>);
    static CLIENTS: OnceLock<Mutex<HashMap<Key, Client>>> = OnceLock::new();
    let clients = CLIENTS.get_or_init(Mutex::default);
    let mut clients = clients.lock().unwrap_or_else(PoisonError::into_inner);
    let key = (certificates.unwrap_or_default().to_owned(), reach.cloned());
    if let Some(client) = clients.get(&key) {
        return Ok(client.clone());
    }
    let own = if key.0.is_empty() {
        Vec::new()
    } else {
        Certificate::from_pem_bundle(key.0.as_bytes()).map_err(CertificatesError::None)?
    };
    let options = |builder: ClientBuilder| {
        let limits = key.1.clone();
        let follow = move |attempt: redirect::Attempt<'_>| follow(attempt, limits.as_ref());
        let builder = builder.read_timeout(SILENCE).connect_timeout(SILENCE).redirect(redirect::Policy::custom(follow));
        let builder = match reach {
            Some(reach) => builder.dns_resolver(Arc::new(Guarded(reach.clone()))),
            None => builder,
        };
        if own.is_empty() { builder } else { builder.tls_certs_merge(own.clone()) }
    };
    let made = pondrix_http::client(options).map_err(CertificatesError::NotTaken)?;
    clients.insert(key, made.clone());
    Ok(made)
}

/// Redirects are followed, a few, never from TLS to none, and to nothing that is not reached. (What was shown to sign in
/// does not go along to another host: that is the library's own rule.)
fn follow(attempt: redirect::Attempt<'_>, reach: Option<&Reach>) -> redirect::Action {
    if let Err(closed) = NotReached::check(attempt.url(), reach) {
        return attempt.error(closed);
    }
    let was_safe = attempt.previous().last().is_some_and(|url| url.scheme() == "https");
    if attempt.previous().len() > REDIRECTS {
        attempt.error(format!("more than {REDIRECTS} redirects"))
    } else if was_safe && attempt.url().scheme() != "https" {
        attempt.error("a redirect leads to an address without TLS")
    } else {
        attempt.follow()
    }
}

/// The client for addresses that are no registry's.
pub(super) fn plain_client(reach: Option<&Reach>) -> Result<Client, CertificatesError> {
    client(None, reach)
}

/// Whether somebody may be there in a moment who is not now.
fn may_come(error: &reqwest::Error) -> bool {
    (error.is_connect() || error.is_request()) && NotReached::why(error).is_none()
}

impl Registry {
    /// The registry of a host.
    ///
    /// # Errors
    /// When its certificates are none.
    pub fn new(host: &str, registries: &Registries) -> Result<Self, RegistryError> {
        let access = registries.access(host);
        let reach = registries.reach(host);
        let client = client(access.certificates.as_deref(), reach);
        let client =
            client.map_err(|error| RegistryError::Settings { host: host.to_owned(), words: error.to_string() })?;
        let address = registries.address(host);
        let reach = reach.cloned();
        let is_added = registries.by_host.contains_key(host);
        Ok(Self { host: host.to_owned(), address, access, is_added, client, reach, passes: Arc::default() })
    }

    pub(super) const fn is_added(&self) -> bool {
        self.is_added
    }

    /// The host in references.
    #[must_use]
    pub fn host(&self) -> &str {
        &self.host
    }

    /// The address of something in a repository.
    pub(super) fn at(&self, repository: &Repository, rest: &str) -> String {
        format!("{}/v2/{}/{rest}", self.address, repository.path())
    }

    pub(super) fn base(&self) -> String {
        format!("{}/v2/", self.address)
    }

    pub(super) fn silent(&self, doing: &str) -> impl FnOnce(reqwest::Error) -> RegistryError + use<> {
        let (host, doing) = (self.host.clone(), doing.to_owned());
        move |error| match NotReached::why(&error) {
            Some(closed) => RegistryError::NotReached { host, closed },
            None => RegistryError::Silent { host, doing, words: innermost(&error) },
        }
    }

    /// Refuses to ask at an address that is not reached.
    fn is_reached(&self, url: &Url) -> Result<(), RegistryError> {
        let closed = NotReached::check(url, self.reach.as_ref());
        closed.map_err(|closed| RegistryError::NotReached { host: self.host.clone(), closed })
    }

    pub(super) fn nonsense(&self, what: &str, words: impl Into<String>) -> RegistryError {
        RegistryError::Nonsense { host: self.host.clone(), what: what.to_owned(), words: words.into() }
    }

    /// Sends a request that `make` makes, as often as that helps, and signs in where that is asked for.
    /// `again` says whether doing it twice does no harm.
    pub(super) async fn send(
        &self,
        right: Option<(&Repository, Right<'_>)>,
        doing: &str,
        again: bool,
        make: impl Fn(&Client) -> Result<RequestBuilder, RegistryError> + Send + Sync,
    ) -> Result<Response, RegistryError> {
        let scope = right.map_or(String::new(), |(repository, right)| scope(repository, right));
        let mut signed_in = 0;
        let mut tries = 1;
        loop {
            let account = self.account(right);
            let pass = self.pass(&scope, account);
            let (client, request) = make(&self.client)?.build_split();
            let request = request.map_err(self.silent(doing))?;
            self.is_reached(request.url())?;
            // A place for an upload may be anywhere: what signs in at this registry is shown to no other.
            let pass = pass.filter(|_| self.is_own(request.url()));
            let request = shown_with(RequestBuilder::from_parts(client, request), pass.as_ref());
            let pause = PAUSE * 2_u32.pow(tries - 1);
            let response = match request.send().await {
                Ok(response) => response,
                Err(error) if again && tries < TRIES && may_come(&error) => {
                    tries += 1;
                    tokio::time::sleep(pause).await;
                    continue;
                }
                Err(error) => return Err(self.silent(doing)(error)),
            };
            let status = response.status();
            // The first time for the right itself, the second where that has ended at this moment.
            if status == StatusCode::UNAUTHORIZED && signed_in < 2 {
                signed_in += 1;
                if self.sign_in(&response, pass.as_ref(), account, &scope, doing).await? {
                    continue;
                }
            }
            if status == StatusCode::UNAUTHORIZED {
                return Err(self.not_signed_in(account, doing, status.as_u16()));
            }
            if passes(status) && (again || status.as_u16() == 429) && tries < TRIES {
                tries += 1;
                tokio::time::sleep(asked_pause(&response).unwrap_or(pause)).await;
                continue;
            }
            return Ok(response);
        }
    }

    /// Whether an address is this registry's.
    fn is_own(&self, url: &Url) -> bool {
        Url::parse(&self.address).is_ok_and(|own| own.origin() == url.origin())
    }

    /// Who signs in for a repository; where none is meant, whoever comes first.
    fn account(&self, right: Option<(&Repository, Right<'_>)>) -> Option<&Account> {
        match right {
            Some((repository, _)) => self.access.account(repository),
            None => self.access.accounts.first(),
        }
    }

    /// What is shown for these rights, where something is known that can be. Somebody's name and password are good for
    /// whatever they sign in for.
    fn pass(&self, scope: &str, account: Option<&Account>) -> Option<Pass> {
        let passes = self.passes.lock().unwrap_or_else(PoisonError::into_inner);
        let of_scope = passes.get(scope).filter(|pass| pass.is_good());
        let is_known = |pass: &&Pass| matches!(pass, Pass::Basic(who) if Some(who) == account);
        of_scope.or_else(|| passes.values().find(is_known)).cloned()
    }

    /// Does what a challenge asks for. Answers whether asking again may help.
    async fn sign_in(
        &self,
        response: &Response,
        shown: Option<&Pass>,
        account: Option<&Account>,
        scope: &str,
        doing: &str,
    ) -> Result<bool, RegistryError> {
        let headers = response.headers().get_all(WWW_AUTHENTICATE).iter();
        let found = headers.filter_map(|header| challenge(header.to_str().ok()?)).next();
        let pass = match (found, account) {
            (Some(Challenge::Basic), Some(who)) => {
                // It has seen name and password, and does not take them.
                if matches!(shown, Some(Pass::Basic(_))) {
                    return Ok(false);
                }
                Pass::Basic(who.clone())
            }
            (Some(Challenge::Bearer { realm, service, scope: said }), _) => {
                let wanted = if scope.is_empty() { said.unwrap_or_default() } else { scope.to_owned() };
                self.token(&realm, service.as_deref(), &wanted, account, doing).await?
            }
            _ => return Ok(false),
        };
        self.passes.lock().unwrap_or_else(PoisonError::into_inner).insert(scope.to_owned(), pass);
        Ok(true)
    }

    /// Where name and password are shown besides the registry itself, as it says: the address of what gives tokens;
    /// nothing where that is its own, or it gives none.
    ///
    /// # Errors
    /// When it is silent.
    pub async fn realm(&self) -> Result<Option<String>, RegistryError> {
        let response = self.client.get(self.base()).send().await.map_err(self.silent("say where one signs in"))?;
        let headers = response.headers().get_all(WWW_AUTHENTICATE).iter();
        let found = headers.filter_map(|header| challenge(header.to_str().ok()?)).next();
        let Some(Challenge::Bearer { realm, .. }) = found else { return Ok(None) };
        let url = Url::parse(&realm).map_err(|error| self.nonsense("place to sign in at", error.to_string()))?;
        Ok(Some(url.origin().ascii_serialization()).filter(|_| !self.is_own(&url)))
    }

    /// Whether name and password may be shown at an address: the registry's, or the one that was settled when they were
    /// given. A registry that was taken over, or its answers on the way, would be sent them otherwise.
    fn is_settled(&self, url: &Url) -> bool {
        let settled = self.access.realm.as_ref().and_then(|realm| Url::parse(realm).ok());
        self.is_own(url) || settled.is_some_and(|settled| settled.origin() == url.origin())
    }

    async fn token(
        &self,
        realm: &str,
        service: Option<&str>,
        scope: &str,
        account: Option<&Account>,
        doing: &str,
    ) -> Result<Pass, RegistryError> {
        let url = Url::parse(realm).map_err(|error| self.nonsense("place to sign in at", error.to_string()))?;
        // Name and password go there: not in the open, unless the registry itself is.
        if url.scheme() != "https" && self.address.starts_with("https:") {
            let words = format!("{realm} has no TLS, and the registry has");
            return Err(self.nonsense("place to sign in at", words));
        }
        self.is_reached(&url)?;
        if account.is_some() && !self.is_settled(&url) {
            let realm = url.origin().ascii_serialization();
            return Err(RegistryError::OtherRealm {
                host: self.host.clone(),
                realm,
                settled: self.access.realm.clone(),
            });
        }
        let words = scope.split(' ').filter(|word| !word.is_empty()).map(|word| ("scope", word));
        let query: Vec<_> = service.iter().map(|service| ("service", *service)).chain(words).collect();
        let mut tries = 1;
        let response = loop {
            let mut request = self.client.get(url.clone()).query(&query);
            if let Some(who) = account {
                request = request.query(&[("account", &who.user)]).basic_auth(&who.user, Some(&who.password));
            }
            let pause = PAUSE * 2_u32.pow(tries - 1);
            tries += 1;
            match request.send().await {
                Ok(response) if passes(response.status()) && tries <= TRIES => {
                    tokio::time::sleep(asked_pause(&response).unwrap_or(pause)).await;
                }
                Err(error) if tries <= TRIES && may_come(&error) => {
                    tokio::time::sleep(pause).await;
                }
                answer => break answer.map_err(self.silent(doing))?,
            }
        };
        if matches!(response.status(), StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN) {
            return Err(self.not_signed_in(account, doing, response.status().as_u16()));
        }
        let answer = self.body(self.agreed(response, doing).await?, doing).await?;
        Pass::token(&answer).ok_or_else(|| self.nonsense("token", "there is none in the answer"))
    }

    fn not_signed_in(&self, account: Option<&Account>, doing: &str, status: u16) -> RegistryError {
        RegistryError::SignIn {
            host: self.host.clone(),
            doing: doing.to_owned(),
            status,
            user: account.map(|who| who.user.clone()),
            audience: account.and_then(|who| who.audience.clone()),
        }
    }

    /// The response, or the registry's words where it refuses.
    pub(super) async fn agreed(&self, response: Response, doing: &str) -> Result<Response, RegistryError> {
        let status = response.status();
        if status.is_success() {
            return Ok(response);
        }
        let body = self.body(response, doing).await.unwrap_or_default();
        let words = words_of(&body);
        let words = if words.is_empty() { status.canonical_reason().unwrap_or("").to_owned() } else { words };
        Err(RegistryError::Refused { host: self.host.clone(), doing: doing.to_owned(), status: status.as_u16(), words })
    }

    pub(super) async fn body(&self, response: Response, doing: &str) -> Result<Vec<u8>, RegistryError> {
        let mut bytes = Vec::new();
        let mut stream = response.bytes_stream();
        while let Some(chunk) = stream.next().await {
            bytes.extend_from_slice(&chunk.map_err(self.silent(doing))?);
            if bytes.len() > LONGEST_DOCUMENT {
                return Err(self.nonsense("document", "longer than 4 MiB"));
            }
        }
        Ok(bytes)
    }

    /// Asks for something that changes nothing.
    pub(super) async fn get(
        &self,
        repository: &Repository,
        rest: &str,
        accept: &str,
        doing: &str,
    ) -> Result<Response, RegistryError> {
        let address = self.at(repository, rest);
        self.ask(Method::GET, repository, &address, accept, doing).await
    }

    pub(super) async fn ask(
        &self,
        method: Method,
        repository: &Repository,
        address: &str,
        accept: &str,
        doing: &str,
    ) -> Result<Response, RegistryError> {
        let make = |client: &Client| {
            let request = client.request(method.clone(), address);
            Ok(if accept.is_empty() { request } else { request.header("accept", accept) })
        };
        self.send(Some((repository, Right::Pull)), doing, true, make).await
    }

    /// The next page of a list (RFC 8288, relation `next`), at this registry and nowhere else.
    pub(super) fn next_page(&self, response: &Response) -> Option<String> {
        let links = response.headers().get_all(LINK).iter().filter_map(|link| link.to_str().ok());
        let next = links
            .flat_map(|link| link.split(','))
            .find(|link| link.split(';').skip(1).any(|part| matches!(part.trim(), "rel=\"next\"" | "rel=next")))?;
        let target = next.trim().strip_prefix('<')?.split('>').next()?;
        let url = response.url().join(target).ok()?;
        (url.origin() == response.url().origin()).then(|| url.to_string())
    }
}

/// Whether what a registry says may be another thing in a moment.
pub(super) fn passes(status: StatusCode) -> bool {
    matches!(status.as_u16(), 429 | 500 | 502 | 503 | 504)
}

/// How long a registry asks us to wait.
fn asked_pause(response: &Response) -> Option<Duration> {
    let seconds = response.headers().get(RETRY_AFTER)?.to_str().ok()?.parse().ok()?;
    Some(Duration::from_secs(seconds).min(LONGEST_PAUSE))
}

/// A request that shows a pass.
fn shown_with(request: RequestBuilder, pass: Option<&Pass>) -> RequestBuilder {
    match pass {
        Some(Pass::Basic(who)) => request.basic_auth(&who.user, Some(&who.password)),
        Some(Pass::Token(token, _)) => request.bearer_auth(token),
        None => request,
    }
}

/// Rights in a repository, in the words that those who give tokens use.
fn scope(repository: &Repository, right: Right<'_>) -> String {
    let of = |repository: &Repository, actions: &str| format!("repository:{}:{actions}", repository.path());
    match right {
        Right::Pull => of(repository, "pull"),
        Right::Push => of(repository, "pull,push"),
        Right::PushFrom(other) => format!("{} {}", of(repository, "pull,push"), of(other, "pull")),
    }
}
