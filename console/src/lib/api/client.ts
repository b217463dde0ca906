/** Requests to the server this page came from. The browser's session cookie says who asks. */
import type { AuditPage, AuditProof, ChainLink, Identity, ImageDetail, ImageSummary, PlanRequest, PlanView, Problem, ProjectView, RunDetail, RunPage, RunSummary, SignInWays } from './types';

/** A request that was not done, in the server's words. */
export class Refusal extends Error {
    constructor(
        readonly status: number,
        message: string,
    ) {
        super(message);
    }
}

async function ask<T>(method: string, path: string, body?: unknown): Promise<T> {
    const init: RequestInit = { method };
    if (body !== undefined) {
        init.headers = { 'content-type': 'application/json' };
        init.body = JSON.stringify(body);
    }
    let response: Response;
    try {
        response = await fetch(path, init);
    } catch {
        throw new Refusal(0, 'The server does not answer.');
    }
    if (response.ok) return (response.status === 204 ? undefined : await response.json()) as T;
    const problem = (await response.json().catch(() => undefined)) as Problem | undefined;
    throw new Refusal(response.status, problem?.detail ?? `The server answered ${response.status}.`);
}

/** The address of a run in the API. */
export const runPath = (project: string, number: number) =>
    `/api/v1/projects/${encodeURIComponent(project)}/runs/${number}`;

/** The address of a job's log; its slash is written `~` there. */
export const logPath = (project: string, number: number, job: string) =>
    `${runPath(project, number)}/jobs/${encodeURIComponent(job.replace('/', '~'))}/log`;

export const whoami = () => ask<Identity>('GET', '/api/v1/whoami');
export const flakyTests = (project: string, job: string) =>
    ask<{ tests: string[] }>('GET', `/api/v1/projects/${project}/flaky/${encodeURIComponent(job.replace('/', '~'))}`);
export const signIn = (shown: { token: string } | { name: string; password: string }) =>
    ask<Identity>('POST', '/api/v1/session', shown);
export const signInWays = () => ask<SignInWays>('GET', '/api/v1/session/ways');
export const signOut = () => ask<void>('DELETE', '/api/v1/session');
export const listImages = () => ask<{ images: ImageSummary[] }>('GET', '/api/v1/images');
export const imageChain = () => ask<{ links: ChainLink[] }>('GET', '/api/v1/images/chain');
export const showImage = (name: string) =>
    ask<ImageDetail>('GET', `/api/v1/images/one?${new URLSearchParams({ name })}`);
/** What was done, of what somebody may see; `wanted` as the API names it. */
export const listAudit = (wanted: Record<string, string>) =>
    ask<AuditPage>('GET', `/api/v1/audit?${new URLSearchParams(wanted)}`);
export const proveAudit = () => ask<AuditProof>('GET', '/api/v1/audit/proof');
export const listProjects = () => ask<{ projects: ProjectView[] }>('GET', '/api/v1/projects');
export const showRun = (project: string, number: number) => ask<RunDetail>('GET', runPath(project, number));
export const stopRun = (project: string, number: number) =>
    ask<RunSummary>('POST', `${runPath(project, number)}/stop`, {});

export const rerun = (project: string, number: number, all: boolean) =>
    ask<RunSummary>('POST', `${runPath(project, number)}/rerun`, { all });
export const answerRun = (project: string, number: number, stage: string, yes: boolean) =>
    ask<RunSummary>('POST', `${runPath(project, number)}/answer`, { stage, yes });
export const plan = (project: string, request: PlanRequest) =>
    ask<PlanView>('POST', `/api/v1/projects/${encodeURIComponent(project)}/plan`, request);

/** The address of an archive with the files of a job's artifact. */
export const archivePath = (project: string, number: number, job: string, name: string) =>
    `${runPath(project, number)}/jobs/${encodeURIComponent(job.replace('/', '~'))}/artifacts/${encodeURIComponent(name)}/archive`;

export function listRuns(options: { project?: string; before?: string; limit?: number } = {}) {
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(options)) if (value !== undefined) query.set(name, String(value));
    return ask<RunPage>('GET', `/api/v1/runs?${query}`);
}
