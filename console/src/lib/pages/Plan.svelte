<script lang="ts">
    import Button from 'flowbite-svelte/Button.svelte';
    import { plan as ask, Refusal } from '../api/client';
    import type { PlanView, StartKind } from '../api/types';
    import { BOX, graph } from '../graph';
    import { link } from '../router.svelte';

    let { project }: { project: string } = $props();

    let branch = $state('main');
    let start = $state<StartKind>('commit');
    let changed = $state('');
    let plan = $state.raw<PlanView>();
    let fault = $state('');

    async function look() {
        try {
            const paths = changed.split(/\s+/).filter(Boolean);
            plan = await ask(project, { branch, start, changed: paths.length ? paths : null, inputs: {} });
            fault = '';
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
    }

    $effect(() => void look());

    const drawn = $derived(plan && graph(plan));
    const short = (key: string) => key.split('/')[1] ?? key;
    const field = 'rounded border border-gray-300 bg-transparent px-2 py-1 text-xs dark:border-gray-700';
</script>

<div class="px-5 py-4">
    <div class="mb-4 flex flex-wrap items-end gap-4">
        <h1 class="mr-4 text-lg font-semibold">What a start of <a href="/?project={project}" onclick={link} class="hover:underline">{project}</a> would do</h1>
        <form class="flex items-end gap-3" onsubmit={(event) => { event.preventDefault(); void look(); }}>
            <label class="text-xs text-gray-600 dark:text-gray-300">started by<br />
                <select bind:value={start} class={field}>
                    {#each ['commit', 'schedule', 'base-moved', 'manual', 'try', 'rerun'] as kind (kind)}<option value={kind} class="text-gray-900">{kind}</option>{/each}
                </select>
            </label>
            <label class="text-xs text-gray-600 dark:text-gray-300">branch<br /><input bind:value={branch} class={field} /></label>
            <label class="text-xs text-gray-600 dark:text-gray-300">changed files (all, when empty)<br /><input bind:value={changed} placeholder="desk/page.html" class="{field} w-64" /></label>
            <Button size="xs" color="primary" type="submit">Look</Button>
        </form>
    </div>
    {#if fault}<p role="alert" class="mb-3 text-failed">{fault}</p>{/if}
    {#if plan?.nothing}<p class="mb-3 border-l-4 border-skipped px-3 py-1">It starts nothing: {plan.nothing}</p>{/if}
    {#if plan?.supersede}<p class="mb-3 text-xs text-gray-600 dark:text-gray-300">It stops older runs of its branch.</p>{/if}
    {#if drawn && drawn.nodes.length}
        <div class="overflow-x-auto pb-3">
            <div class="relative min-w-full" style:width="{drawn.width}px" style:height="{drawn.height}px" role="img" aria-label="The stages and jobs of the plan">
                {#each drawn.bands as band, index (band.name)}
                    <div class="absolute inset-x-0 rounded bg-primary-50 py-3 pl-3 dark:bg-gray-900" style:top="{band.y}px" style:height="{band.height}px">
                        <p class="truncate font-medium" style:width="{BOX.label - 30}px">{index + 1}. {band.name}</p>
                        <p class="text-xs" style:width="{BOX.label - 30}px">
                            {#if band.approval}<span class="text-waiting">asks: {band.approval}</span>{/if}
                            {#if band.exclusive}<span class="block text-gray-600 dark:text-gray-300">one at a time: {band.exclusive}</span>{/if}
                        </p>
                    </div>
                {/each}
                <svg class="absolute inset-0 text-gray-500 dark:text-gray-400" width={drawn.width} height={drawn.height} fill="none" stroke="currentColor" stroke-width="1.5" aria-hidden="true">
                    {#each drawn.lines as line, index (index)}
                        {@const from = { x: line.from.x + BOX.width, y: line.from.y + BOX.height / 2 }}
                        {@const to = { x: line.to.x, y: line.to.y + BOX.height / 2 }}
                        <path d="M{from.x} {from.y} C{from.x + 24} {from.y} {to.x - 24} {to.y} {to.x} {to.y}" />
                    {/each}
                </svg>
                {#each drawn.nodes as node (node.job.job)}
                    <div
                        class="absolute overflow-hidden rounded border bg-lily px-2 py-1 dark:bg-gray-950 {node.job.left_out ? 'border-dashed border-gray-300 text-gray-500 dark:border-gray-700' : 'border-primary-400'}"
                        style:left="{node.x}px" style:top="{node.y}px" style:width="{BOX.width}px" style:height="{BOX.height}px"
                        title="{node.job.what}{node.job.left_out ? `\nleft out: ${node.job.left_out}` : ''}{node.job.locks.length ? `\none at a time: ${node.job.locks.join(', ')}` : ''}"
                    >
                        <p class="flex items-baseline gap-2"><span class="truncate font-medium">{short(node.job.job)}</span><span class="ml-auto shrink-0 text-xs text-gray-500 dark:text-gray-400">{node.job.kind}</span></p>
                        <p class="truncate text-xs {node.job.left_out ? '' : 'text-gray-600 dark:text-gray-300'}">
                            {#if node.job.left_out}left out: {node.job.left_out}
                            {:else}{[node.job.pool && `pool ${node.job.pool}`, node.job.platform && `for ${node.job.platform}`, ...node.job.tools, node.job.retry && `retry ${node.job.retry}`, node.job.may_fail && 'may fail', node.job.required_result !== 'passed' && `when result ${node.job.required_result}`].filter(Boolean).join(', ') || node.job.what}{/if}
                        </p>
                    </div>
                {/each}
            </div>
        </div>
        <p class="text-xs text-gray-500 dark:text-gray-400">Stages run from top to bottom. Jobs of a stage run side by side, but for the lines. Dashed is left out.</p>
    {:else if plan?.faults.length}
        {#each plan.faults as one ((one.file ?? '') + one.place.line + one.message)}<p class="text-failed">{one.file ?? 'pondrix.kdl'}:{one.place.line}:{one.place.column} {one.message}</p>{/each}
    {/if}
</div>
