<script lang="ts">
    import Button from 'flowbite-svelte/Button.svelte';
    import { answerRun, Refusal, rerun, stopRun } from '../api/client';
    import { follow, runTopic } from '../api/events';
    import type { JobView, Problem, RunDetail, RunUpdate, StartKind } from '../api/types';
    import { updated } from '../api/update';
    import { clock } from '../clock.svelte';
    import Lanes from '../components/Lanes.svelte';
    import LogView from '../components/LogView.svelte';
    import Results from '../components/Results.svelte';
    import StateMark from '../components/StateMark.svelte';
    import Tests from '../components/Tests.svelte';
    import { link, router, runAddress } from '../router.svelte';
    import { ago, length, millis } from '../time';

    let { project, number, job, onup }: { project: string; number: number; job: string | undefined; onup: (up: boolean) => void } = $props();

    /** Why a run began, in words. */
    const HOW: Record<StartKind, string> = {
        commit: 'started by a commit',
        schedule: 'started by a schedule',
        'base-moved': 'started because its base moved',
        manual: 'started by hand',
        try: 'a try',
        rerun: 'a rerun',
    };

    let run = $state.raw<RunDetail>();
    let fault = $state('');

    $effect(() => {
        run = undefined;
        fault = '';
        const show = (detail: RunDetail) => {
            run = detail;
            // The stream ends with the run; nothing changes after that.
            if (detail.ended) stop();
        };
        const stop = follow(
            runTopic(project, number),
            {
                run: (detail: RunDetail) => show(detail),
                update: (update: RunUpdate) => run && show(updated(run, update)),
                refused: (problem: Problem) => (fault = problem.detail),
            },
            (up) => onup(up || run?.ended != null),
        );
        return stop;
    });

    const jobs = $derived(run?.stages.flatMap((stage) => stage.jobs) ?? []);
    /** What is looked at: what was chosen, else what broke, else what runs, else what ran last. */
    const shown = $derived.by(() => {
        const of = (test: (one: JobView) => boolean) => jobs.find(test)?.job;
        return (
            (job && of((one) => one.job === job)) ??
            of((one) => one.state === 'failed' || one.state === 'lost') ??
            of((one) => one.state === 'running') ??
            jobs.findLast((one) => one.started)?.job
        );
    });
    const took = $derived.by(() => {
        const started = millis(run?.started);
        return started === undefined ? '' : length((millis(run?.ended) ?? Math.max(clock.now, started)) - started);
    });
    const goesOn = $derived(run && !run.ended);

    const asked = $derived(run?.stages.find((stage) => stage.state === 'waiting'));
    const broke = $derived(run?.state === 'failed' || run?.state === 'stopped' || run?.state === 'lost');

    /** Does something; what the server says against it is shown. */
    async function attempt(doing: () => Promise<unknown>) {
        try {
            fault = '';
            await doing();
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
    }

    const stop = () => attempt(() => stopRun(project, number));
    const answer = (stage: string, yes: boolean) => attempt(() => answerRun(project, number, stage, yes));
    const again = (all: boolean) =>
        attempt(async () => router.go(runAddress(project, (await rerun(project, number, all)).number)));
</script>

<div class="flex h-full flex-col">
    {#if fault}<p role="alert" class="px-5 py-3 text-failed">{fault}</p>{/if}
    {#if run}
        <div class="flex items-center gap-4 px-5 pt-4 pb-3">
            <h1 class="text-lg font-semibold">{run.run}</h1>
            <StateMark state={run.state} />
            <span class="tabular-nums">{took}</span>
            <span class="truncate text-gray-600 dark:text-gray-300">
                {run.title} <span class="text-gray-500 dark:text-gray-400">by {run.author} on {run.tag ? `tag ${run.tag}` : run.branch} at <span class="font-mono">{run.commit.slice(0, 12)}</span>, {ago(clock.now - Date.parse(run.created))}, {HOW[run.start]}{#if run.rerun_of}&#32;of <a class="underline" href={runAddress(project, run.rerun_of)} onclick={link}>#{run.rerun_of}</a>{/if}{#if run.by}, started by {run.by}{/if}</span>
            </span>
            {#if run.stopped_by}<span class="text-stopped">stopped by {run.stopped_by}</span>{/if}
            <span class="ml-auto flex shrink-0 gap-2">
                {#if goesOn}
                    <Button size="xs" color="alternative" onclick={stop}>Stop</Button>
                {:else if !run.faults.length}
                    {#if broke && !run.missing.length}<Button size="xs" color="primary" onclick={() => again(false)}>Run the rest</Button>{/if}
                    <Button size="xs" color="alternative" onclick={() => again(true)}>Run everything</Button>
                {/if}
            </span>
        </div>
        {#each run.templates as one (one.template)}
            <p class="px-5 pb-2 text-xs text-gray-600 dark:text-gray-300">uses <span class="font-mono">{one.template}</span> at <span class="font-mono">{one.commit.slice(0, 12)}</span>{#if one.changed_since}<span class="font-semibold">, changed since <a class="underline" href={runAddress(project, one.changed_since)} onclick={link}>#{one.changed_since}</a></span>{/if}</p>
        {/each}
        {#if asked?.approval}
            <div class="mx-5 mb-3 flex items-center gap-4 border-l-4 border-waiting px-4 py-2" role="alertdialog" aria-label="An answer is asked for">
                <p><span class="font-semibold">{asked.name}</span> asks: {asked.approval.question}
                    {#if asked.approval.whose}<span class="text-xs text-gray-600 dark:text-gray-300">for {asked.approval.whose} to answer</span>{/if}
                    {#if asked.approval.said_yes?.length}<span class="text-xs text-gray-600 dark:text-gray-300">yes so far: {asked.approval.said_yes.join(', ')}</span>{/if}
                    {#if asked.approval.until}<span class="text-xs text-gray-600 dark:text-gray-300">an answer counts for {length(Date.parse(asked.approval.until) - clock.now)} more</span>{/if}</p>
                <Button size="xs" color="primary" onclick={() => answer(asked.name, true)}>Yes</Button>
                <Button size="xs" color="alternative" onclick={() => answer(asked.name, false)}>No, stop the run</Button>
            </div>
        {/if}
        {#if run.missing.length}
            <div class="mx-5 mb-3 border-l-4 border-failed px-4 py-2" role="alert">
                <p class="mb-1 font-semibold">Nothing of it ran: something that it needs is not there.</p>
                <ul class="space-y-1.5">
                    {#each run.missing as one (one.job + one.what)}
                        <li><span class="font-medium">{one.job}</span>: {one.what}<br /><span class="text-xs text-gray-600 dark:text-gray-300">fix: <code>{one.fix}</code></span></li>
                    {/each}
                </ul>
            </div>
        {/if}
        {#each run.faults as one ((one.file ?? '') + one.place.line + one.message)}
            <pre class="mx-5 mb-3 overflow-auto rounded border-l-4 border-failed bg-gray-100 p-3 text-xs dark:bg-gray-900">{one.message}
  at {one.file ?? 'pondrix.kdl'}:{one.place.line}:{one.place.column}
  {one.source}
  {' '.repeat(one.place.column - 1)}{'^'.repeat(one.place.width)}{one.help ? `\n  help: ${one.help}` : ''}</pre>
        {/each}
        {#if run.stages.length}
            <div class="px-2 pb-2"><Lanes {run} selected={shown} /></div>
            <Results {run} />
        {/if}
        {#if run.failure && (!job || job === run.failure.job)}
            <div class="mx-5 my-2 border-l-4 border-failed px-4 py-2" role="alert">
                <p><span class="font-semibold">{run.failure.job}</span> failed. {run.failure.what}</p>
                <p class="mt-1 text-xs text-gray-600 dark:text-gray-300">On the command line: <code>{run.failure.next}</code></p>
            </div>
        {/if}
        {#if shown}
            <Tests {project} job={jobs.find((one) => one.job === shown)} />
            {#key `${project}#${number}/${shown}`}<LogView {project} {number} job={shown} usage={jobs.find((one) => one.job === shown)?.usage} />{/key}
        {/if}
    {:else if !fault}
        <p class="px-5 py-4 text-gray-500">Looking for {project}#{number}</p>
    {:else}
        <p class="px-5"><a href="/" onclick={link} class="underline">All runs</a></p>
    {/if}
</div>
