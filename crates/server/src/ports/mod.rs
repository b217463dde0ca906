//! What the server does not decide itself: the time, the networks beyond it. Each has a real form and one that a
//! test scripts.

mod clock;
mod cluster;
pub(crate) mod git;
pub(crate) mod kubeconfig;
pub(crate) mod openid;
mod providers;
mod registry;

use std::sync::Arc;

use git::{GitRepositories, Repositories};
use pondrix_core::access::Reach;
use registry::DistributionProbe;

use crate::tuning::CurrentTuning;

pub(crate) use clock::Clock;
pub(crate) use cluster::{Cluster, ClusterError, Clusters, DescribedClusters, Reached, images, title};
pub use providers::{NoProvider, SecretProvider};
pub(crate) use providers::{NotProvided, SecretProviders};
pub(crate) use registry::RegistryProbe;

/// All of them.
#[derive(Clone, Debug)]
pub(crate) struct Ports {
    pub(crate) clock: Clock,
    pub(crate) clusters: Arc<dyn Clusters>,
    pub(crate) repositories: Arc<dyn Repositories>,
    pub(crate) registries: Arc<dyn RegistryProbe>,
    pub(crate) providers: SecretProviders,
}

impl Ports {
    /// The real ones.
    pub(crate) fn real(reach: Reach, providers: Vec<SecretProvider>, tuning: CurrentTuning) -> Self {
        Self {
            clock: Clock::of_machine(),
            clusters: Arc::new(DescribedClusters { reach: reach.clone() }),
            repositories: Arc::new(GitRepositories { tuning }),
            registries: Arc::new(DistributionProbe { reach }),
            providers: SecretProviders::new(providers),
        }
    }
}
