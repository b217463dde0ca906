//! A cluster, through the Kubernetes API.

use std::time::Duration;

use futures_util::StreamExt;
use kube::api::{Api, DynamicObject, Patch, PatchParams, PostParams, WatchParams};
use kube::config::{KubeConfigOptions, Kubeconfig};
use kube::core::GroupVersionKind;
use kube::discovery::{self, Scope};
use kube::{Client, Config};
use pondrix_api::EnvironmentView;
use serde_json::Value;

/// Who the cluster is told applies the objects (server-side apply, "Field management").
const MANAGER: &str = "pondrix";

/// A cluster and the namespace of an environment.
#[derive(Clone)]
pub(super) struct Cluster {
    client: Client,
    namespace: String,
}

/// Waits for the next change of an object.
pub(super) struct NextChange {
    api: Api<DynamicObject>,
    name: String,
    version: String,
}

/// `kind/name`, for people.
pub(super) fn title(object: &Value) -> String {
    let text = |pointer: &str| object.pointer(pointer).and_then(Value::as_str).unwrap_or("?").to_owned();
    format!("{}/{}", text("/kind").to_lowercase(), text("/metadata/name"))
}

fn told(doing: impl Into<String>) -> impl FnOnce(kube::Error) -> String {
    let doing = doing.into();
    move |error| match error {
        kube::Error::Api(status) => format!("the cluster refused to {doing}: {} ({})", status.message, status.code),
        other => {
            let mut cause: &dyn std::error::Error = &other;
            while let Some(inner) = cause.source() {
                cause = inner;
            }
            format!("the cluster could not be asked to {doing}: {cause}")
        }
    }
}

impl Cluster {
    /// The cluster that an environment's file describes.
    pub(super) async fn connect(environment: &EnvironmentView) -> Result<Self, String> {
        let file = &environment.kubeconfig;
        let described = Kubeconfig::read_from(file).map_err(|error| format!("{file}: {error}"))?;
        let config = Config::from_custom_kubeconfig(described, &KubeConfigOptions::default()).await;
        let config = config.map_err(|error| format!("{file}: {error}"))?;
        let client = Client::try_from(config).map_err(told("be reached"))?;
        Ok(Self { client, namespace: environment.namespace.clone() })
    }

    /// Whether it answers at all.
    pub(super) async fn answers(&self) -> Result<(), String> {
        self.client.apiserver_version().await.map(|_| ()).map_err(told("tell its version"))
    }

    /// Where objects of this one's kind live.
    async fn api(&self, object: &Value) -> Result<Api<DynamicObject>, String> {
        let text = |key: &str| object.get(key).and_then(Value::as_str).unwrap_or_default();
        let (group, version) = text("apiVersion").rsplit_once('/').unwrap_or(("", text("apiVersion")));
        let gvk = GroupVersionKind::gvk(group, version, text("kind"));
        let found = discovery::pinned_kind(&self.client, &gvk).await;
        let (resource, capabilities) = found.map_err(told(format!("find {} {}", text("apiVersion"), text("kind"))))?;
        let namespace = object.pointer("/metadata/namespace").and_then(Value::as_str).unwrap_or(&self.namespace);
        Ok(match capabilities.scope {
            Scope::Cluster => Api::all_with(self.client.clone(), &resource),
            Scope::Namespaced => Api::namespaced_with(self.client.clone(), namespace, &resource),
        })
    }

    fn name(object: &Value) -> &str {
        object.pointer("/metadata/name").and_then(Value::as_str).unwrap_or_default()
    }

    /// An object as it is now; nothing when it is not there.
    pub(super) async fn now(&self, object: &Value) -> Result<Option<Value>, String> {
        let found = self.api(object).await?.get_opt(Self::name(object)).await;
        let found = found.map_err(told(format!("show {}", title(object))))?;
        found.map(|found| serde_json::to_value(&found).map_err(|error| error.to_string())).transpose()
    }

    /// Makes an object again what it was; nobody else may change it in between.
    pub(super) async fn put_back(&self, before: &Value) -> Result<(), String> {
        let doing = format!("put {} back", title(before));
        let now = self.now(before).await?.ok_or_else(|| format!("{} is gone", title(before)))?;
        let mut object: DynamicObject = serde_json::from_value(before.clone()).map_err(|error| error.to_string())?;
        object.metadata.resource_version = now["metadata"]["resourceVersion"].as_str().map(str::to_owned);
        object.metadata.managed_fields = None;
        let params = PostParams { field_manager: Some(MANAGER.to_owned()), ..PostParams::default() };
        let put = self.api(before).await?.replace(Self::name(before), &params, &object).await;
        put.map(|_| ()).map_err(told(doing))
    }

    /// Applies an object (server-side apply). Answers its title.
    pub(super) async fn apply(&self, object: &Value) -> Result<String, String> {
        let params = PatchParams::apply(MANAGER).force();
        let applied = self.api(object).await?.patch(Self::name(object), &params, &Patch::Apply(object)).await;
        applied.map_err(told(format!("apply {}", title(object))))?;
        Ok(title(object))
    }

    /// An object as it is now, and a way to wait for its next change.
    pub(super) async fn deployment(&self, object: &Value) -> Result<(Value, NextChange), String> {
        let api = self.api(object).await?;
        let name = Self::name(object).to_owned();
        let found = api.get(&name).await.map_err(told(format!("show {}", title(object))))?;
        let version = found.metadata.resource_version.clone().unwrap_or_default();
        let state = serde_json::to_value(&found).map_err(|error| error.to_string())?;
        Ok((state, NextChange { api, name, version }))
    }
}

impl NextChange {
    /// Returns at the next change, or after a while when there is none.
    pub(super) async fn changed(self, patience: Duration) -> Result<(), String> {
        let params = WatchParams::default().fields(&format!("metadata.name={}", self.name));
        let stream = self.api.watch(&params, &self.version).await;
        let mut stream = stream.map_err(told(format!("watch {}", self.name)))?.boxed();
        // The end of the stream, or a version too old to watch from: the object is read anew anyway.
        let _ = tokio::time::timeout(patience, stream.next()).await;
        Ok(())
    }
}

/// The images that an object runs; nothing when it runs none.
pub(super) fn images(object: &Value) -> Option<String> {
    let containers = object.pointer("/spec/template/spec/containers")?.as_array()?;
    let images: Vec<_> = containers.iter().filter_map(|container| container.get("image")?.as_str()).collect();
    Some(images.join(", ")).filter(|images| !images.is_empty())
}
