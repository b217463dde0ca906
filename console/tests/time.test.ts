import { expect, test } from 'vitest';
import { ago, bytes, length, millis, shortDigest } from '../src/lib/time';

test('lengths of time are told in the two largest units that matter', () => {
    const told = [0, 999, 1000, 59_900, 60_000, 3_599_000, 3_600_000, 90_000_000].map(length);
    expect(told).toEqual(['0 ms', '999 ms', '1.0 s', '59.9 s', '1 min 0 s', '59 min 59 s', '1 h 0 min', '25 h 0 min']);
    expect(length(-5), 'clocks may differ').toBe('0 ms');
});

test('how long ago something was is told as coarsely as one would', () => {
    expect([0, 4_999, 5_000, 119_000, 120_000, 7_200_000, 172_800_000].map(ago)).toEqual([
        'now', 'now', '5 s ago', '119 s ago', '2 min ago', '2 h ago', '2 days ago',
    ]);
});

test('sizes, moments and digests are told shortly', () => {
    expect([0, 999, 1000, 12_345, 5_000_000, 7e12].map(bytes)).toEqual(['0 B', '999 B', '1.0 kB', '12 kB', '5.0 MB', '7.0 TB']);
    expect(millis(null)).toBeUndefined();
    expect(millis('1970-01-01T00:00:01Z')).toBe(1000);
    expect(shortDigest(`sha256:${'ab'.repeat(32)}`)).toBe('sha256:abababababab');
});
