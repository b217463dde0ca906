//! The contract of Pondrix: what travels between the server and the command line, the console and
//! the runners, defined once, and an HTTP [`Client`] for it.
//!
//! Moments are RFC 3339 in UTC. Faults travel as RFC 9457 problem details ([`Problem`]).

mod access;
mod artifacts;
mod audit;
mod client;
mod followed_run;
mod images;
mod keys;
mod openid;
mod plan;
mod problem;
mod quotas;
mod registries;
mod retention;
mod runner;
mod runners;
mod runs;
mod settings;

pub use access::{
    Identity, NewPassword, NewToken, NewUser, RoleChange, RoleList, RoleView, SignIn, TokenList, TokenMade, TokenView,
    UserChange, UserList, UserMade, UserView,
};
pub use artifacts::{
    ArtifactFile, ArtifactFiles, CacheAnswer, CacheEntry, CacheQuestion, Digests, FetchedArtifact, FlakyTests,
    NewArtifact,
};
pub use audit::{AuditEntry, AuditKeep, AuditPage, AuditProof, AuditWanted};
pub use client::{Client, ClientError, RunnerClient, RunsWanted, ServerEvent};
pub use followed_run::FollowedRun;
pub use images::{
    BaseFacts, ChainLink, ImageChain, ImageDetail, ImageDifference, ImageList, ImageRecord, ImageSummary, IndexRecord,
    LayerDigests, LayerView, TagChange,
};
pub use keys::KeysView;
pub use openid::{OpenIdChange, OpenIdSettings, OpenIdSubject, OpenIdView, SignInWays};
pub use plan::{PlanRequest, PlanView, PlannedJobView, PlannedStageView};
pub use problem::Problem;
pub use quotas::{QuotaChange, QuotaList, QuotaView};
pub use registries::{
    RegistryAccount, RegistryChange, RegistryCheck, RegistryList, RegistryProof, RegistryQuestion, RegistryView,
};
pub use retention::{
    EnvironmentRemoved, GoingView, GoingWhat, ImageOutside, ProjectRemoved, ReleaseOutside, RetentionPreview,
    RetentionQuestion, RetentionRule, RetentionView,
};
pub use runner::{
    AccountAnswer, AccountQuestion, Assignment, Beat, HashKey, Hello, IdentityAnswer, IdentityQuestion, JobReport,
    JoinRequest, Joined, LogLength, NamedSecret, SourceChanges, SourceDifference, StepList, TagAnswer, TagQuestion,
    TimedReport, Welcome,
};
pub use runners::{InvitationMade, InvitationView, NewInvitation, NewRunner, RunnerBounds, RunnerMade};
pub use runs::{
    AnswerRequest, ApprovalView, AttemptView, Change, FailureView, JobView, LogEnd, LogText, RerunRequest, RunDetail,
    RunPage, RunSummary, RunUpdate, StageView, StartRequest, StepView, StopRequest, StreamEvent, TemplateText,
    TemplateUse, TryRequest,
};
pub use settings::{
    EnvironmentChange, EnvironmentList, EnvironmentView, FreezeRequest, GitCredential, HookAnswer, MissingSecret,
    NewProject, NoValue, PauseRequest, PauseView, PoolView, ProjectChange, ProjectList, ProjectView, RunnerList,
    RunnerView, SecretList, SecretValue, SecretView, SharedSecret, SharedSecretName,
};
