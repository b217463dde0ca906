/** Moments, lengths of time, sizes and digests, for people. */

export const millis = (moment: string | null | undefined) => (moment ? Date.parse(moment) : undefined);

export function length(ms: number): string {
    const seconds = ms / 1000;
    if (ms < 1000) return `${Math.max(0, Math.round(ms))} ms`;
    if (seconds < 60) return `${seconds.toFixed(1)} s`;
    if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${Math.floor(seconds % 60)} s`;
    return `${Math.floor(seconds / 3600)} h ${Math.floor((seconds % 3600) / 60)} min`;
}

export function ago(ms: number): string {
    const seconds = Math.max(0, Math.floor(ms / 1000));
    if (seconds < 5) return 'now';
    if (seconds < 120) return `${seconds} s ago`;
    if (seconds < 7200) return `${Math.floor(seconds / 60)} min ago`;
    if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h ago`;
    return `${Math.floor(seconds / 86_400)} days ago`;
}

export function bytes(count: number): string {
    if (count < 1000) return `${count} B`;
    const units = ['kB', 'MB', 'GB', 'TB'];
    let value = count / 1000;
    let place = 0;
    while (value >= 1000 && place < units.length - 1) {
        value /= 1000;
        place += 1;
    }
    return `${value < 10 ? value.toFixed(1) : Math.round(value)} ${units[place]}`;
}

/** The algorithm and the first twelve digits. */
export const shortDigest = (digest: string) => digest.slice(0, 19);
