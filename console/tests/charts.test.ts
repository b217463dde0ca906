import { expect, test } from 'vitest';
import type { JobView, PlannedJobView, PlanView, RunDetail } from '../src/lib/api/types';
import { graph } from '../src/lib/graph';
import { chart, ticks } from '../src/lib/lanes';

const at = (seconds: number) => new Date(seconds * 1000).toISOString();
const job = (name: string, from: number, to: number, after: string[] = []) =>
    ({ job: name, state: 'passed', after, steps: [], queued: at(from - 1), started: at(from), ended: at(to) }) as unknown as JobView;
const run = (jobs: JobView[]) =>
    ({ started: at(0), created: at(0), ended: at(100), stages: [{ name: 's', state: 'passed', jobs }] }) as unknown as RunDetail;

test('the jobs that made a run as long as it was are the last, and of those before it the last', () => {
    const jobs = [job('s/a', 1, 10), job('s/b', 1, 30), job('s/c', 31, 90, ['s/a', 's/b']), job('s/d', 1, 80)];
    const [band] = chart(run(jobs), 0).bands;
    expect(band?.lanes.filter((lane) => lane.critical).map((lane) => lane.job.job)).toEqual(['s/b', 's/c']);
    expect([band?.from, band?.to]).toEqual([1000, 90_000]);
});

test('a job that waits has a bar of waiting and no other, up to now', () => {
    const waiting = { job: 's/a', state: 'queued', after: [], steps: [], queued: at(5) } as unknown as JobView;
    const open = { ...run([waiting]), ended: null } as unknown as RunDetail;
    const { bands, end } = chart(open, 60_000);
    expect(bands[0]?.lanes[0]?.bar).toBeUndefined();
    expect(bands[0]?.lanes[0]?.wait).toEqual({ from: 5000, to: 60_000, state: 'queued' });
    expect(end).toBe(60_000);
});

test('an axis has round marks and not too many', () => {
    for (const span of [40, 999, 12_345, 3_600_000, 10 * 3_600_000]) {
        const marks = ticks(span, 8);
        expect(marks[0]).toBe(0);
        expect(marks.length).toBeLessThanOrEqual(9);
        expect(marks.at(-1)).toBeLessThanOrEqual(span);
    }
});

test('a plan is drawn in bands, each job right of those it comes after, none over another', () => {
    const planned = (name: string, after: string[] = []) => ({ job: name, after }) as unknown as PlannedJobView;
    const jobs = [planned('s/a'), planned('s/b'), planned('s/c', ['s/a']), planned('s/d', ['s/c', 's/b'])];
    const plan = { stages: [{ name: 's', jobs }, { name: 't', jobs: [planned('t/e')] }] } as unknown as PlanView;
    const { nodes, lines, bands } = graph(plan);
    for (const { from, to } of lines) expect(from.x).toBeLessThan(to.x);
    expect(lines.map(({ from, to }) => `${from.job.job} ${to.job.job}`).sort()).toEqual(['s/a s/c', 's/b s/d', 's/c s/d']);
    expect(new Set(nodes.map((node) => `${node.x} ${node.y}`)).size).toBe(nodes.length);
    expect((bands[0]?.y ?? 0) + (bands[0]?.height ?? 0)).toBeLessThanOrEqual(bands[1]?.y ?? 0);
    const circle = graph({ stages: [{ name: 's', jobs: [planned('s/a', ['s/b']), planned('s/b', ['s/a'])] }] } as unknown as PlanView);
    expect(circle.nodes.length, 'a circle is drawn all the same').toBe(2);
});
