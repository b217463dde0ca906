/** The API's types, by the names that the console uses. They are generated from the contract. */
import type { components } from './schema';

type Schemas = components['schemas'];

export type State = Schemas['State'];
export type RunSummary = Schemas['RunSummary'];
export type SignInWays = Schemas['SignInWays'];
export type RunPage = Schemas['RunPage'];
export type RunDetail = Schemas['RunDetail'];
export type RunUpdate = Schemas['RunUpdate'];
export type StageView = Schemas['StageView'];
export type JobView = Schemas['JobView'];
export type StepView = Schemas['StepView'];
export type ProjectView = Schemas['ProjectView'];
export type JobResult = Schemas['JobResult'];
export type Problem = Schemas['Problem'];
export type Identity = Schemas['Identity'];
export type Report = Schemas['Report'];
export type ApprovalView = Schemas['ApprovalView'];
export type PlanRequest = Schemas['PlanRequest'];
export type PlanView = Schemas['PlanView'];
export type PlannedJobView = Schemas['PlannedJobView'];
export type ImageSummary = Schemas['ImageSummary'];
export type ImageDetail = Schemas['ImageDetail'];
export type ChainLink = Schemas['ChainLink'];
export type AuditEntry = Schemas['AuditEntry'];
export type AuditPage = Schemas['AuditPage'];
export type AuditProof = Schemas['AuditProof'];
export type StartKind = Schemas['StartKind'];
export type JobUsage = Schemas['JobUsage'];
