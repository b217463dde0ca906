<script lang="ts">
    import type { JobView } from '../api/types';
    import { flakyTests } from '../api/client';
    import { length } from '../time';

    let { project, job }: { project: string; job: JobView | undefined } = $props();
    let flaky = $state<string[]>([]);
    const report = $derived(job?.results.find((result) => result.kind === 'tests')?.report);
    const passed = $derived(report ? report.tests - report.failed - report.skipped : 0);

    // Asked once for each job that is looked at; it is about all runs, not this one.
    $effect(() => {
        flaky = [];
        const name = job?.job;
        if (name && report) flakyTests(project, name).then((list) => name === job?.job && (flaky = list.tests), () => {});
    });
</script>

{#if report}
    <div class="mx-5 my-2 border-l-4 px-4 py-2 text-xs {report.failed ? 'border-failed' : 'border-passed'}" aria-label="Test reports">
        <p>
            <span class="font-semibold">{passed} {passed === 1 ? 'test' : 'tests'} passed</span>,
            <span class:font-semibold={report.failed}>{report.failed} failed</span>{#if report.skipped}, {report.skipped} skipped{/if}{#if report.millis}, in {length(report.millis)}{/if}{#if report.slowest[0]}<span class="text-gray-600 dark:text-gray-300">; slowest: {report.slowest[0].test} {length(report.slowest[0].millis)}</span>{/if}
        </p>
        {#each report.failures as failure, index (index)}
            <details class="mt-1">
                <summary class="cursor-pointer">
                    <span class="font-medium text-failed">{failure.test}</span>
                    {#if failure.place}<span class="font-mono">{failure.place}</span>{/if} {failure.message}
                </summary>
                {#if failure.details}<pre class="mt-1 max-h-40 overflow-auto rounded bg-gray-100 p-2 dark:bg-gray-900">{failure.details}</pre>{/if}
            </details>
        {/each}
        {#if flaky.length}<p class="mt-1"><span class="font-semibold">flaky, passed and failed lately:</span> {flaky.join(', ')}</p>{/if}
        {#each report.damage as words (words)}<p class="text-failed">The report is damaged: {words}</p>{/each}
    </div>
{/if}
