/** A run drawn against time: where every bar stands, and which jobs made the run as long as it was. */
import type { JobView, RunDetail, State } from './api/types';
import { millis } from './time';

export type Bar = { from: number; to: number; state: State };
export type Lane = {
    job: JobView;
    /** From when its turn came until it was taken. */
    wait: Bar | undefined;
    bar: Bar | undefined;
    /** From when it was taken until everything that it needs was there. */
    prepare: Bar | undefined;
    steps: (Bar & { name: string })[];
    /** Whether it is on the critical path. */
    critical: boolean;
};
export type Band = { name: string; state: State; lanes: Lane[]; from: number | undefined; to: number | undefined };
export type Chart = { start: number; end: number; bands: Band[] };

/** The chart of a run at a moment. Times are milliseconds since 1970. */
export function chart(run: RunDetail, now: number): Chart {
    const start = millis(run.started) ?? millis(run.created) ?? now;
    const end = Math.max(millis(run.ended) ?? now, start + 1);
    const bands = run.stages.map((stage) => {
        const lanes = stage.jobs.map((job): Lane => {
            const [queued, started, ended] = [millis(job.queued), millis(job.started), millis(job.ended)];
            const prepared = millis(job.prepared);
            const steps = job.steps.flatMap((step) => {
                const from = millis(step.started);
                return from === undefined ? [] : [{ from, to: millis(step.ended) ?? end, state: step.state, name: step.name }];
            });
            return {
                job,
                wait: queued === undefined ? undefined : { from: queued, to: started ?? ended ?? end, state: 'queued' },
                bar: started === undefined ? undefined : { from: started, to: ended ?? end, state: job.state },
                prepare: started === undefined ? undefined : { from: started, to: prepared ?? ended ?? end, state: job.state },
                steps,
                critical: false,
            };
        });
        const begun = lanes.flatMap((lane) => (lane.bar ? [lane.bar] : []));
        // Stages run one after the other: in each, the job that ended last held the run up, and of those that
        // it came after again the one that ended last.
        const last = Math.max(...begun.map((bar) => bar.to));
        let held = lanes.find((lane) => lane.bar?.to === last);
        while (held && !held.critical) {
            held.critical = true;
            const before = lanes.filter((lane) => lane.bar && held?.job.after.includes(lane.job.job));
            held = before.toSorted((one, other) => (other.bar?.to ?? 0) - (one.bar?.to ?? 0))[0];
        }
        return {
            name: stage.name,
            state: stage.state,
            lanes,
            from: begun.length ? Math.min(...begun.map((bar) => bar.from)) : undefined,
            to: begun.length ? last : undefined,
        };
    });
    return { start, end, bands };
}

/** Round moments for an axis of about `count` marks over a length in milliseconds. */
export function ticks(span: number, count: number): number[] {
    const steps = [50, 100, 200, 500, 1000, 2000, 5000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_800_000, 3_600_000];
    const step = steps.find((step) => span / step <= count) ?? 7_200_000;
    return Array.from({ length: Math.floor(span / step) + 1 }, (_, index) => index * step);
}
