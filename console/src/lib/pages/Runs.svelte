<script lang="ts">
    import Button from 'flowbite-svelte/Button.svelte';
    import { listProjects, listRuns, Refusal } from '../api/client';
    import { follow } from '../api/events';
    import type { ProjectView, RunSummary } from '../api/types';
    import StateMark from '../components/StateMark.svelte';
    import { clock } from '../clock.svelte';
    import { link, runAddress } from '../router.svelte';
    import { ago, length, millis } from '../time';

    let { project, onup }: { project: string | undefined; onup: (up: boolean) => void } = $props();

    let runs = $state.raw<RunSummary[]>([]);
    let projects = $state.raw<ProjectView[]>([]);
    let next = $state<string | null | undefined>();
    let loaded = $state(false);
    let fault = $state('');

    const key = (run: RunSummary) => run.run;
    const newestFirst = (list: RunSummary[]) => list.toSorted((one, other) => Date.parse(other.created) - Date.parse(one.created));

    async function load(before?: string) {
        try {
            const page = await listRuns({ project, before, limit: 50 });
            runs = before ? [...runs, ...page.runs] : page.runs;
            next = page.next;
            projects = (await listProjects()).projects;
            fault = '';
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
        loaded = true;
    }

    $effect(() => {
        loaded = false;
        // Anything may have changed while the connection was gone: look anew when it stands again.
        const stop = follow(
            'runs',
            {
                change: ({ run }: { run: RunSummary }) => {
                    if (project && run.project !== project) return;
                    runs = newestFirst([run, ...runs.filter((other) => key(other) !== key(run))]);
                },
            },
            (up) => {
                onup(up);
                if (up) void load();
            },
        );
        return stop;
    });

    const took = (run: RunSummary) => {
        const started = millis(run.started);
        return started === undefined ? '' : length((millis(run.ended) ?? Math.max(clock.now, started)) - started);
    };
    const count = (states: string[]) => runs.filter((run) => states.includes(run.state)).length;
    const troubled = $derived(projects.filter((one) => one.note));
</script>

<div class="px-5 py-4">
    <div class="mb-3 flex items-baseline gap-4">
        <h1 class="text-lg font-semibold">{project ? `Runs of ${project}` : 'Runs'}</h1>
        {#if project}<a href="/plan/{project}" onclick={link} class="text-xs underline hover:text-ember">what a start would do</a>{/if}
        {#if loaded && runs.length}
            <span class="text-gray-500 dark:text-gray-400">{count(['running', 'queued', 'waiting'])} going on, {count(['failed', 'lost'])} failed of the last {runs.length}</span>
        {/if}
        <nav class="ml-auto flex gap-3 text-xs" aria-label="Projects">
            <a href="/" onclick={link} class="hover:text-ember" class:font-semibold={!project}>all projects</a>
            {#each projects as one (one.name)}
                <a href="/?project={one.name}" onclick={link} class="hover:text-ember" class:font-semibold={project === one.name}>{one.name}</a>
            {/each}
        </nav>
    </div>
    {#if fault}<p role="alert" class="mb-3 text-failed">{fault}</p>{/if}
    {#each troubled as one (one.name)}
        <p class="mb-2 text-xs {one.faulty ? 'text-failed' : 'text-gray-500 dark:text-gray-400'}">
            <span class="font-semibold">{one.name}</span>: {one.note}
        </p>
    {/each}
    {#if runs.length}
        <table class="w-full table-fixed text-left">
            <thead class="text-xs text-gray-500 dark:text-gray-400">
                <tr class="border-b border-gray-300 dark:border-gray-700">
                    <th class="w-44 py-1.5 font-normal">run</th><th class="w-28 font-normal">state</th><th class="w-24 font-normal">created</th>
                    <th class="w-24 font-normal">took</th><th class="w-28 font-normal">branch</th><th class="font-normal">commit</th><th class="w-[30%] font-normal">what it does, or why it ended</th>
                </tr>
            </thead>
            <tbody>
                {#each runs as run (key(run))}
                    <tr class="border-b border-gray-200 hover:bg-primary-50 dark:border-gray-800 dark:hover:bg-gray-900">
                        <td class="py-1.5"><a href={runAddress(run.project, run.number)} onclick={link} class="font-medium text-primary-700 hover:underline dark:text-primary-200">{run.run}</a></td>
                        <td><StateMark state={run.state} /></td>
                        <td class="text-gray-500 dark:text-gray-400" title={run.created}>{ago(clock.now - Date.parse(run.created))}</td>
                        <td class="tabular-nums">{took(run)}</td>
                        <td class="truncate">{run.tag ? `tag ${run.tag}` : run.branch}</td>
                        <td class="truncate pr-4" title={run.title}>{run.title} <span class="text-gray-500 dark:text-gray-400">{run.author}</span></td>
                        <td class="truncate text-gray-600 dark:text-gray-300" title={run.note ?? ''}>{run.note ?? ''}</td>
                    </tr>
                {/each}
            </tbody>
        </table>
        {#if next}<Button size="xs" color="alternative" class="mt-3" onclick={() => load(next ?? undefined)}>Older runs</Button>{/if}
    {:else if loaded}
        <div class="mt-16 text-center text-gray-600 dark:text-gray-300">
            <p class="mb-2 text-base">No runs yet.</p>
            {#if projects.length}
                <p>Push a commit to {projects.map((one) => one.name).join(' or ')}, or start a run: <code>pondrix start {project ?? projects[0]?.name}</code></p>
            {:else}
                <p>Make a repository known first: <code>pondrix project add NAME REPOSITORY</code></p>
            {/if}
        </div>
    {/if}
</div>
