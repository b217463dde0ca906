<script lang="ts">
    import type { RunDetail } from '../api/types';
    import { clock } from '../clock.svelte';
    import { chart, ticks, type Bar } from '../lanes';
    import { link, runAddress } from '../router.svelte';
    import { length, millis } from '../time';
    import StateMark from './StateMark.svelte';

    let { run, selected }: { run: RunDetail; selected: string | undefined } = $props();

    const drawn = $derived(chart(run, Math.max(clock.now, millis(run.started) ?? 0)));
    const span = $derived((drawn.end - drawn.start) * 1.04);
    const marks = $derived(ticks(span, 8));
    const left = (moment: number) => `${(100 * (moment - drawn.start)) / span}%`;
    const wide = (bar: Bar) => `max(3px, ${(100 * (bar.to - bar.from)) / span}%)`;
    const columns = 'grid-cols-[8rem_15rem_1fr]';
</script>

<section class="text-[13px]" aria-label="The run against time">
    <div class="grid {columns} text-xs text-gray-500 dark:text-gray-400">
        <span class="px-3 pb-1">stage</span><span class="pb-1">job</span>
        <div class="relative h-5">
            {#each marks as mark (mark)}
                <span class="absolute whitespace-nowrap {mark === 0 ? '' : mark > span * 0.97 ? '-translate-x-full' : '-translate-x-1/2'}" style:left={left(drawn.start + mark)}>{mark === 0 ? '0' : length(mark)}</span>
            {/each}
        </div>
    </div>
    {#each drawn.bands as band (band.name)}
        <div class="grid {columns} border-t border-gray-200 dark:border-gray-800">
            <div class="px-3 py-1.5 font-medium">{band.name}</div>
            <div class="col-span-2">
                {#each band.lanes as lane (lane.job.job)}
                    <a
                        href={runAddress(run.project, run.number, lane.job.job)}
                        onclick={link}
                        aria-current={lane.job.job === selected ? 'true' : undefined}
                        class="lane grid grid-cols-[15rem_1fr] items-center hover:bg-primary-50 dark:hover:bg-gray-900"
                        class:selected={lane.job.job === selected}
                    >
                        <span class="flex items-center gap-2 overflow-hidden py-1.5 pr-3">
                            <StateMark state={lane.job.state} word={false} />
                            <span class="truncate" title={lane.job.after.length ? `after ${lane.job.after.join(', ')}` : undefined}>{lane.job.job.split('/')[1]}</span>
                            {#if lane.job.attempt > 1}<span class="shrink-0 text-xs text-lost" title={lane.job.attempts.map((one) => `${one.state}: ${one.reason ?? ''}`).join('\n')}>attempt {lane.job.attempt}</span>{/if}
                            <span class="ml-auto shrink-0 text-xs text-gray-500 dark:text-gray-400">
                                {#if lane.bar}{length(lane.bar.to - lane.bar.from)}{:else}{lane.job.state}{/if}
                            </span>
                        </span>
                        <span class="relative block h-7">
                            {#each marks as mark (mark)}<span class="absolute inset-y-0 w-px bg-gray-200 dark:bg-gray-800" style:left={left(drawn.start + mark)}></span>{/each}
                            {#if band.from !== undefined && band.to !== undefined}
                                <span class="absolute inset-y-0 bg-primary-100/60 dark:bg-primary-900/50" style:left={left(band.from)} style:width={wide({ from: band.from, to: band.to, state: band.state })}></span>
                            {/if}
                            {#if !lane.bar && lane.job.reason}
                                <span class="absolute top-1.5 left-1 z-10 truncate bg-lily px-1 text-xs text-gray-500 dark:bg-gray-950 dark:text-gray-400" style:max-width="96%">{lane.job.reason}</span>
                            {/if}
                            {#if lane.wait && lane.bar}<span title="waiting for a runner: {length(lane.wait.to - lane.wait.from)}" class="absolute top-3.5 h-px bg-queued" style:left={left(lane.wait.from)} style:width={wide(lane.wait)}></span>{/if}
                            {#if lane.bar}
                                <span class="absolute top-1.5 h-4 rounded-sm opacity-35" style:background="var(--color-{lane.bar.state})" style:left={left(lane.bar.from)} style:width={wide(lane.bar)} title="reporting what its steps left"></span>
                                {#if lane.prepare && lane.job.kind !== 'rollout'}<span class="hatched absolute top-1.5 h-4 rounded-sm bg-lily dark:bg-gray-950" style:--of="var(--color-{lane.bar.state})" style:left={left(lane.prepare.from)} style:width={wide(lane.prepare)} title="getting ready: {length(lane.prepare.to - lane.prepare.from)}"></span>{/if}
                                {#each lane.steps as step (step.name + step.from)}
                                    <span class="absolute top-1.5 h-4 rounded-sm border-r border-lily dark:border-gray-950" style:background="var(--color-{step.state})" style:left={left(step.from)} style:width={wide(step)} title="{step.name}: {step.state}, {length(step.to - step.from)}"></span>
                                {/each}
                                {#if lane.critical}<span class="absolute bottom-0 h-[3px] bg-ember" style:left={left(lane.bar.from)} style:width={wide(lane.bar)} title="on the critical path"></span>{/if}
                            {/if}
                        </span>
                    </a>
                {/each}
            </div>
        </div>
    {/each}
    <p class="flex gap-5 border-t border-gray-200 px-3 pt-1 text-xs text-gray-500 dark:border-gray-800 dark:text-gray-400" aria-hidden="true">
        <span><span class="mr-1 inline-block h-2 w-4 rounded-sm bg-passed opacity-35"></span>job</span>
        <span><span class="hatched mr-1 inline-block h-2 w-4 rounded-sm" style:--of="var(--color-passed)"></span>getting ready</span>
        <span><span class="mr-1 inline-block h-2 w-4 rounded-sm bg-passed"></span>its steps</span>
        <span><span class="mr-1 inline-block h-[3px] w-4 bg-ember align-middle"></span>critical path</span>
    </p>
</section>

<style>
    .selected {
        background: color-mix(in srgb, var(--color-primary-400) 16%, transparent);
        box-shadow: inset 3px 0 0 var(--color-ember);
    }
    .hatched {
        background-image: repeating-linear-gradient(135deg, var(--of) 0 2px, transparent 2px 5px);
    }
    .lane > span:first-child {
        padding-left: 0.6rem;
    }
</style>
