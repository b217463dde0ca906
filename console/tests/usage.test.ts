import { expect, test } from 'vitest';
import { usageParts } from '../src/lib/usage';

test('a job shows what its runner measured, and nothing else', () => {
    expect(usageParts({ memory: 48_000_000, cpu_millis: 1500, read: 0 })).toEqual([
        '48 MB of memory',
        '1.5 s of CPU time',
        '0 B read',
    ]);
    expect(usageParts(undefined)).toEqual([]);
});
