<script lang="ts">
    import { archivePath } from '../api/client';
    import type { RunDetail } from '../api/types';

    let { run }: { run: RunDetail } = $props();
    const results = $derived(
        run.stages.flatMap((stage) =>
            stage.jobs.flatMap((job) => job.results.map((result) => ({ job: job.job, result }))),
        ).filter(({ result }) => result.kind !== 'tests'),
    );
    const size = (bytes: number) => (bytes < 1000 ? `${bytes} B` : bytes < 1e6 ? `${(bytes / 1e3).toFixed(1)} kB` : `${(bytes / 1e6).toFixed(1)} MB`);
</script>

{#if results.length}
    <ul class="flex flex-wrap gap-x-6 gap-y-1 px-5 py-2 text-xs text-gray-600 dark:text-gray-300">
        {#each results as { job, result }, index (index)}
            <li>
                {#if result.kind === 'image'}
                    image <span class="font-mono">{result.repository}@{result.digest.slice(0, 19)}</span>
                    {#if result.platforms?.length}for {result.platforms.join(', ')}{/if}
                    {result.tags.length ? 'tagged' : `of ${job.split('/')[1]}`}
                    {#each result.tags as tag (tag)}<span class="ml-1 rounded bg-primary-100 px-1.5 font-mono dark:bg-primary-900">{tag}</span>{/each}
                {:else if result.kind === 'release'}
                    <span class="font-semibold">{result.environment}</span> runs <span class="font-mono">{result.tag ?? result.image}</span>
                    {#if result.address}at <a class="text-ember underline" href={result.address} target="_blank" rel="noreferrer">{result.address}</a>{/if}
                {:else if result.kind === 'artifact'}
                    artifact <a class="underline hover:text-ember" href={archivePath(run.project, run.number, job, result.name)} download>{result.name}</a> of {job.split('/')[1]} ({result.count} {result.count === 1 ? 'file' : 'files'}, {size(result.bytes)})
                {:else if result.kind === 'output'}
                    {result.name} <span class="font-mono">{result.value.length > 60 ? `${result.value.slice(0, 60)}\u2026` : result.value}</span>
                {/if}
            </li>
        {/each}
    </ul>
{/if}
