import { expect, test } from 'vitest';
import type { JobView, RunDetail, RunUpdate, StageView } from '../src/lib/api/types';
import { updated } from '../src/lib/api/update';

const job = (key: string, state: JobView['state']) => ({ job: key, state }) as JobView;
const stage = (name: string, state: StageView['state'], jobs: JobView[]): StageView => ({ name, state, approval: null, jobs });

test('an update changes what it names and leaves the rest as it is', () => {
    const before = {
        run: 'desk#3',
        state: 'running',
        faults: [],
        templates: [],
        version: 7,
        stages: [
            stage('verify', 'running', [job('verify/unit', 'running'), job('verify/types', 'passed')]),
            stage('ship', 'queued', [job('ship/image', 'queued')]),
        ],
    } as unknown as RunDetail;
    const change = { run: 'desk#3', state: 'failed', version: 9, stages: [stage('verify', 'failed', [job('verify/unit', 'failed')])] };
    const after = updated(before, change as unknown as RunUpdate);
    expect(after).toMatchObject({ state: 'failed', version: 9, templates: [] });
    expect(after.stages.map((one) => one.state)).toEqual(['failed', 'queued']);
    expect(after.stages[0]?.jobs.map((one) => one.state)).toEqual(['failed', 'passed']);
    expect(after.stages[0]?.jobs[1]).toBe(before.stages[0]?.jobs[1]);
    expect(after.stages[1]).toBe(before.stages[1]);
    expect(before.stages[0]?.jobs[0]?.state).toBe('running');
});
