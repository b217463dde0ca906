/** A plan drawn: a band for each stage, one below the other; in it jobs from left to right, with lines from
 * what comes before to what comes after. */
import type { PlannedJobView, PlanView } from './api/types';

export type Node = { job: PlannedJobView; x: number; y: number };
export type Band = { name: string; approval: string | null | undefined; exclusive: string | null | undefined; y: number; height: number };
export type Line = { from: Node; to: Node };
export type Graph = { bands: Band[]; nodes: Node[]; lines: Line[]; width: number; height: number };

export const BOX = { width: 230, height: 46, gap: 10, side: 48, label: 190, pad: 12 };

/** How many jobs of the same stage come before a job, one after the other. */
function depth(job: PlannedJobView, all: PlannedJobView[], seen: string[] = []): number {
    if (seen.includes(job.job)) return 0;
    const before = all.filter((other) => job.after.includes(other.job));
    return before.length ? 1 + Math.max(...before.map((other) => depth(other, all, [...seen, job.job]))) : 0;
}

export function graph(plan: PlanView): Graph {
    const bands: Band[] = [];
    const nodes: Node[] = [];
    let y = 0;
    let deepest = 0;
    for (const stage of plan.stages) {
        const rows: number[] = [];
        for (const job of stage.jobs) {
            const level = depth(job, stage.jobs);
            const row = rows[level] ?? 0;
            rows[level] = row + 1;
            deepest = Math.max(deepest, level);
            nodes.push({ job, x: BOX.label + level * (BOX.width + BOX.side), y: y + BOX.pad + row * (BOX.height + BOX.gap) });
        }
        const most = Math.max(1, ...rows.filter((count) => count !== undefined));
        const height = 2 * BOX.pad + most * BOX.height + (most - 1) * BOX.gap;
        bands.push({ name: stage.name, approval: stage.approval, exclusive: stage.exclusive, y, height });
        y += height + BOX.gap;
    }
    const lines = nodes.flatMap((to) => nodes.filter((from) => to.job.after.includes(from.job.job)).map((from) => ({ from, to })));
    return { bands, nodes, lines, width: BOX.label + (deepest + 1) * (BOX.width + BOX.side), height: Math.max(0, y - BOX.gap) };
}
