import type { RunDetail, RunUpdate } from './types';

/** A run after an update of it. What did not change is the same object as before. */
export function updated(run: RunDetail, update: RunUpdate): RunDetail {
    const { stages, ...whole } = update;
    const changed = new Map(stages.map((stage) => [stage.name, stage]));
    return {
        ...run,
        ...whole,
        stages: run.stages.map((stage) => {
            const now = changed.get(stage.name);
            if (!now) return stage;
            const jobs = new Map(now.jobs.map((job) => [job.job, job]));
            return { ...now, jobs: stage.jobs.map((job) => jobs.get(job.job) ?? job) };
        }),
    };
}
