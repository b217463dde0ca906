//! Clusters, through the Kubernetes API.

use std::fmt;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use futures_util::future::BoxFuture;
use futures_util::{FutureExt, StreamExt};
use http_body_util::Limited;
use kube::api::{Api, DynamicObject, Patch, PatchParams, PostParams, WatchParams};
use kube::client::ClientBuilder;
use kube::config::{KubeConfigOptions, Kubeconfig};
use kube::core::GroupVersionKind;
use kube::discovery::{self, Scope};
use kube::{Client, Config};
use pondrix_core::access::Reach;
use pondrix_core::object_name::{ObjectName, ObjectNameError, verify_plural};
use serde_json::Value;
use tower_http::map_response_body::MapResponseBodyLayer;

/// Who the cluster is told applies the objects (server-side apply, "Field management").
const MANAGER: &str = "pondrix";

/// The longest answer of a cluster that is read, in bytes.
const LONGEST_ANSWER: usize = 32 << 20;

/// Why a cluster did not do what it was asked for.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub(crate) enum ClusterError {
    /// It answered, and said no.
    #[error("the cluster refused to {doing}: {words} ({code})")]
    Refused { doing: String, words: String, code: u16 },
    /// It did not answer.
    #[error("the cluster could not be asked to {doing}: {words}")]
    Unanswered { doing: String, words: String, is_certain: bool },
    /// What describes it cannot be read.
    #[error("the kubeconfig of {environment}: {words}")]
    Description { environment: String, words: String },
    /// An object that is to be put back is not there any more.
    #[error("{title} is gone")]
    Gone { title: String },
    /// An object that is none.
    #[error("{title} is no object that can be sent: {words}")]
    Malformed { title: String, words: String },
}

impl ClusterError {
    /// Whether the same may succeed a little later: a connection that broke, a server that starts, one that has
    /// too much to do, or an object that somebody else changed in between.
    pub(crate) fn is_transient(&self) -> bool {
        match self {
            Self::Refused { code, .. } => matches!(code, 409 | 429 | 500 | 502..=504),
            Self::Unanswered { is_certain, .. } => !is_certain,
            Self::Description { .. } | Self::Gone { .. } | Self::Malformed { .. } => false,
        }
    }
}

/// A cluster and the namespace of an environment. All of it may be asked again without harm.
pub(crate) trait Cluster: fmt::Debug + Send + Sync {
    /// Whether it answers at all.
    fn answers(&self) -> BoxFuture<'_, Result<(), ClusterError>>;
    /// An object as it is now; nothing when it is not there.
    fn now<'a>(&'a self, object: &'a Value) -> BoxFuture<'a, Result<Option<Value>, ClusterError>>;
    /// Applies an object (server-side apply).
    fn apply<'a>(&'a self, object: &'a Value) -> BoxFuture<'a, Result<(), ClusterError>>;
    /// Makes an object again what it was; nobody else may change it in between.
    fn put_back<'a>(&'a self, before: &'a Value) -> BoxFuture<'a, Result<(), ClusterError>>;
    /// Returns when an object is another than in this state of it, or after a while when it is not.
    fn changed<'a>(&'a self, state: &'a Value, patience: Duration) -> BoxFuture<'a, Result<(), ClusterError>>;
}

/// Finds the cluster of an environment.
pub(crate) trait Clusters: fmt::Debug + Send + Sync {
    fn connect<'a>(&'a self, place: &'a Reached) -> BoxFuture<'a, Result<Arc<dyn Cluster>, ClusterError>>;
}

/// How the cluster of an environment is reached.
#[derive(Clone)]
pub(crate) struct Reached {
    pub(crate) environment: String,
    /// The one namespace that is used.
    pub(crate) namespace: String,
    /// A kubeconfig that says all itself.
    pub(crate) kubeconfig: String,
    /// Whether no administrator said so: it is then to be where anybody may send the server.
    pub(crate) is_anybodys: bool,
}

impl fmt::Debug for Reached {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Reached").field("environment", &self.environment).finish_non_exhaustive()
    }
}

/// Those that the environments describe.
#[derive(Clone, Debug)]
pub(crate) struct DescribedClusters {
    /// What is reached of those that no administrator described.
    pub(crate) reach: Reach,
}

impl DescribedClusters {
    /// The same, at an address that is reached.
    async fn pinned(&self, config: Config) -> Result<Config, String> {
        let (host, port) = place_of(&config);
        let found = tokio::net::lookup_host((host.as_str(), port)).await;
        let found: Vec<_> = found.map_err(|error| format!("{host} is not found: {error}"))?.collect();
        pinned(config, &found, &self.reach)
    }
}

/// The host and port of a cluster.
fn place_of(config: &Config) -> (String, u16) {
    let url = &config.cluster_url;
    let usual = if url.scheme_str() == Some("http") { 80 } else { 443 };
    (url.host().unwrap_or_default().trim_matches(['[', ']']).to_owned(), url.port_u16().unwrap_or(usual))
}

/// The same at one of the addresses that its name has now, all of which are to be reached: what was looked at is what is
/// connected to, under the name that its certificate has.
fn pinned(mut config: Config, found: &[SocketAddr], reach: &Reach) -> Result<Config, String> {
    let (host, _) = place_of(&config);
    if config.proxy_url.is_some() {
        return Err("a cluster that no administrator described is reached through no proxy".to_owned());
    }
    if let Some(closed) = found.iter().find(|found| !reach.reaches(found.ip())) {
        return Err(format!(
            "{host} is at {}, which is not of the public network: clusters there are described by whoever \
             administers the server, or opened for all with serve --reach",
            closed.ip()
        ));
    }
    let at = found.first().ok_or_else(|| format!("{host} has no address"))?;
    let url = &config.cluster_url;
    let scheme = url.scheme_str().unwrap_or("https");
    let path = url.path_and_query().map_or("/", |path| path.as_str());
    let pinned = format!("{scheme}://{at}{path}").parse().map_err(|error| format!("{url}: {error}"))?;
    config.cluster_url = pinned;
    let own_name = Some(host).filter(|host| host.parse::<IpAddr>().is_err());
    config.tls_server_name = config.tls_server_name.or(own_name);
    Ok(config)
}

struct Described {
    client: Client,
    namespace: String,
}

impl fmt::Debug for Described {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Described").field("namespace", &self.namespace).finish_non_exhaustive()
    }
}

/// `kind/name`, for people.
pub(crate) fn title(object: &Value) -> String {
    let text = |pointer: &str| object.pointer(pointer).and_then(Value::as_str).unwrap_or("?").to_owned();
    format!("{}/{}", text("/kind").to_lowercase(), text("/metadata/name"))
}

/// The images that an object runs; nothing when it runs none.
pub(crate) fn images(object: &Value) -> Option<String> {
    let containers = object.pointer("/spec/template/spec/containers")?.as_array()?;
    let images: Vec<_> = containers.iter().filter_map(|container| container.get("image")?.as_str()).collect();
    Some(images.join(", ")).filter(|images| !images.is_empty())
}

fn because(doing: impl Into<String>) -> impl FnOnce(kube::Error) -> ClusterError {
    let doing = doing.into();
    move |error| match error {
        kube::Error::Api(status) => ClusterError::Refused { doing, words: status.message.clone(), code: status.code },
        other => {
            let mut is_certain =
                !matches!(other, kube::Error::HyperError(_) | kube::Error::Service(_) | kube::Error::ReadEvents(_));
            let mut cause: &dyn std::error::Error = &other;
            while let Some(inner) = cause.source() {
                cause = inner;
                // A certificate that is not trusted now is not trusted later (rustls tells it as data that makes
                // no sense).
                is_certain |=
                    cause.downcast_ref::<io::Error>().is_some_and(|error| error.kind() == io::ErrorKind::InvalidData);
            }
            ClusterError::Unanswered { doing, words: cause.to_string(), is_certain }
        }
    }
}

impl Clusters for DescribedClusters {
    fn connect<'a>(&'a self, place: &'a Reached) -> BoxFuture<'a, Result<Arc<dyn Cluster>, ClusterError>> {
        async move {
            let unread = |error: kube::config::KubeconfigError| ClusterError::Description {
                environment: place.environment.clone(),
                words: error.to_string(),
            };
            let described = Kubeconfig::from_yaml(&place.kubeconfig).map_err(unread)?;
            let config = Config::from_custom_kubeconfig(described, &KubeConfigOptions::default()).await;
            let mut config = config.map_err(unread)?;
            if place.is_anybodys {
                let closed = |words| ClusterError::Description { environment: place.environment.clone(), words };
                config = self.pinned(config).await.map_err(closed)?;
            }
            let builder = ClientBuilder::try_from(config).map_err(because("be reached"))?;
            let limited = MapResponseBodyLayer::new(|body| Limited::new(body, LONGEST_ANSWER));
            let client = builder.with_layer(&limited).build();
            let cluster: Arc<dyn Cluster> = Arc::new(Described { client, namespace: place.namespace.clone() });
            Ok(cluster)
        }
        .boxed()
    }
}

fn name(object: &Value) -> &str {
    object.pointer("/metadata/name").and_then(Value::as_str).unwrap_or_default()
}

fn malformed(object: &Value) -> impl FnOnce(serde_json::Error) -> ClusterError {
    let title = title(object);
    move |error| ClusterError::Malformed { title, words: error.to_string() }
}

fn unnamed(object: &Value) -> impl FnOnce(ObjectNameError) -> ClusterError {
    let title = title(object);
    move |error| ClusterError::Malformed { title, words: error.to_string() }
}

impl Described {
    /// Where objects of this one's kind live.
    async fn api(&self, object: &Value) -> Result<Api<DynamicObject>, ClusterError> {
        let ObjectName { group, version, kind, .. } = ObjectName::of(object).map_err(unnamed(object))?;
        let found = discovery::pinned_kind(&self.client, &GroupVersionKind::gvk(group, version, kind)).await;
        let (resource, capabilities) = found.map_err(because(format!("find {version} {kind}")))?;
        // The cluster's own word for the kind becomes a part of every address, too.
        verify_plural(&resource.plural).map_err(unnamed(object))?;
        Ok(match capabilities.scope {
            Scope::Cluster => Api::all_with(self.client.clone(), &resource),
            Scope::Namespaced => Api::namespaced_with(self.client.clone(), &self.namespace, &resource),
        })
    }
}

impl Cluster for Described {
    fn answers(&self) -> BoxFuture<'_, Result<(), ClusterError>> {
        async move { self.client.apiserver_version().await.map(|_| ()).map_err(because("tell its version")) }.boxed()
    }

    fn now<'a>(&'a self, object: &'a Value) -> BoxFuture<'a, Result<Option<Value>, ClusterError>> {
        async move {
            let found = self.api(object).await?.get_opt(name(object)).await;
            let found = found.map_err(because(format!("show {}", title(object))))?;
            found.map(|found| serde_json::to_value(&found).map_err(malformed(object))).transpose()
        }
        .boxed()
    }

    fn apply<'a>(&'a self, object: &'a Value) -> BoxFuture<'a, Result<(), ClusterError>> {
        async move {
            let params = PatchParams::apply(MANAGER).force();
            let applied = self.api(object).await?.patch(name(object), &params, &Patch::Apply(object)).await;
            applied.map(|_| ()).map_err(because(format!("apply {}", title(object))))
        }
        .boxed()
    }

    fn put_back<'a>(&'a self, before: &'a Value) -> BoxFuture<'a, Result<(), ClusterError>> {
        async move {
            let now = self.now(before).await?.ok_or_else(|| ClusterError::Gone { title: title(before) })?;
            let mut object: DynamicObject = serde_json::from_value(before.clone()).map_err(malformed(before))?;
            object.metadata.resource_version =
                now.pointer("/metadata/resourceVersion").and_then(Value::as_str).map(str::to_owned);
            object.metadata.managed_fields = None;
            let params = PostParams { field_manager: Some(MANAGER.to_owned()), ..PostParams::default() };
            let put = self.api(before).await?.replace(name(before), &params, &object).await;
            put.map(|_| ()).map_err(because(format!("put {} back", title(before))))
        }
        .boxed()
    }

    fn changed<'a>(&'a self, state: &'a Value, patience: Duration) -> BoxFuture<'a, Result<(), ClusterError>> {
        async move {
            let params = WatchParams::default().fields(&format!("metadata.name={}", name(state)));
            let version = state.pointer("/metadata/resourceVersion").and_then(Value::as_str).unwrap_or_default();
            let stream = self.api(state).await?.watch(&params, version).await;
            let mut stream = stream.map_err(because(format!("watch {}", title(state))))?.boxed();
            // The end of the stream, or a version too old to watch from: the object is read anew anyway.
            drop(tokio::time::timeout(patience, stream.next()).await);
            Ok(())
        }
        .boxed()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_cluster_that_answers_without_end_is_not_read_to_it() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let server = format!("http://{}", listener.local_addr().unwrap());
        let endless = axum::Router::new().fallback(async || {
            let pieces = futures_util::stream::repeat_with(|| Ok::<_, io::Error>(vec![b' '; 1 << 16]));
            axum::body::Body::from_stream(pieces)
        });
        tokio::spawn(axum::serve(listener, endless).into_future());
        let kubeconfig = serde_json::json!({
            "apiVersion": "v1", "kind": "Config", "current-context": "it",
            "contexts": [{ "name": "it", "context": { "cluster": "it", "user": "it" } }],
            "clusters": [{ "name": "it", "cluster": { "server": server } }],
            "users": [{ "name": "it", "user": {} }],
        });
        let place = Reached {
            environment: "beds".to_owned(),
            namespace: "beds".to_owned(),
            kubeconfig: kubeconfig.to_string(),
            is_anybodys: false,
        };
        let cluster = DescribedClusters { reach: Reach::default() }.connect(&place).await.unwrap();
        let error = cluster.answers().await.unwrap_err().to_string();
        assert!(error.contains("length limit exceeded"), "{error}");
    }

    #[test]
    fn a_cluster_that_anybody_described_is_reached_at_what_was_looked_at_and_under_its_own_name() {
        let reach = Reach::with(vec!["10.20.0.0/16".parse().unwrap()]);
        let at = |url: &str, found: &[&str]| {
            let found: Vec<SocketAddr> = found.iter().map(|one| one.parse().unwrap()).collect();
            pinned(Config::new(url.parse().unwrap()), &found, &reach)
        };
        let config = at("https://beds.fernhollow.test:6443/one", &["10.20.0.7:6443", "8.8.8.8:6443"]).unwrap();
        assert_eq!(config.cluster_url.to_string(), "https://10.20.0.7:6443/one");
        assert_eq!(config.tls_server_name.as_deref(), Some("beds.fernhollow.test"));
        let config = at("https://[2606:4700::1111]", &["[2606:4700::1111]:443"]).unwrap();
        assert_eq!((config.cluster_url.port_u16(), config.tls_server_name), (Some(443), None));
        let error = at("https://beds.fernhollow.test", &["8.8.8.8:443", "169.254.169.254:443"]).unwrap_err();
        assert!(error.starts_with("beds.fernhollow.test is at 169.254.169.254, which is not"), "{error}");
        assert!(at("https://beds.fernhollow.test", &[]).is_err());
        let mut config = Config::new("https://8.8.8.8".parse().unwrap());
        config.proxy_url = Some("http://8.8.8.8:3128".parse().unwrap());
        assert!(pinned(config, &["8.8.8.8:443".parse().unwrap()], &reach).unwrap_err().contains("no proxy"));
    }

    #[test]
    fn what_may_be_well_later_is_told_from_what_is_certain() {
        let refused = |code| ClusterError::Refused { doing: "x".into(), words: "y".into(), code };
        for code in [429, 500, 502, 503, 504] {
            assert!(refused(code).is_transient(), "{code}");
        }
        for code in [400, 401, 403, 404, 422, 501] {
            assert!(!refused(code).is_transient(), "{code}");
        }
        let broken = io::Error::from(io::ErrorKind::ConnectionReset);
        assert!(because("x")(kube::Error::Service(Box::new(broken))).is_transient());
        let untrusted = io::Error::new(io::ErrorKind::InvalidData, "invalid peer certificate");
        assert!(!because("x")(kube::Error::Service(Box::new(untrusted))).is_transient());
    }
}
