/** What a job used, for people. */

import type { JobUsage } from './api/types';
import { bytes, length } from './time';

/** The measured parts, the most interesting first; empty if the runner measured nothing. */
export function usageParts(usage: JobUsage | null | undefined): string[] {
    const parts: [number | null | undefined, (value: number) => string][] = [
        [usage?.memory, (value) => `${bytes(value)} of memory`],
        [usage?.cpu_millis, (value) => `${length(value)} of CPU time`],
        [usage?.processes, (value) => `${value} processes`],
        [usage?.read, (value) => `${bytes(value)} read`],
        [usage?.written, (value) => `${bytes(value)} written`],
    ];
    return parts.flatMap(([value, words]) => (value === null || value === undefined ? [] : [words(value)]));
}
