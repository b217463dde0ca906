//! Stand-ins for the systems that Pondrix works against, for the demo and the tests: a registry that
//! speaks enough of OCI Distribution, a cluster that speaks enough of the Kubernetes API and
//! really runs the containers, in the sandbox, and a provider of OpenID Connect.
//!
//! They are no result: they keep what they must in a folder or in memory, trust whoever asks, and
//! listen on the loopback interface only.

pub mod cluster;
pub mod garden;
pub mod provider;
pub mod registry;
