<script lang="ts">
    import { archivePath } from '../api/client';
    import type { RunDetail } from '../api/types';

    let { run }: { run: RunDetail } = $props();
    const made = $derived(
        run.stages.flatMap((stage) =>
            stage.jobs.flatMap((job) => job.products.map((product) => ({ job: job.job, product }))),
        ).filter(({ product }) => product.made !== 'tests'),
    );
    const size = (bytes: number) => (bytes < 1000 ? `${bytes} B` : bytes < 1e6 ? `${(bytes / 1e3).toFixed(1)} kB` : `${(bytes / 1e6).toFixed(1)} MB`);
</script>

{#if made.length}
    <ul class="flex flex-wrap gap-x-6 gap-y-1 px-5 py-2 text-xs text-gray-600 dark:text-gray-300">
        {#each made as { job, product }, index (index)}
            <li>
                {#if product.made === 'image'}
                    image <span class="font-mono">{product.repository}@{product.digest.slice(0, 19)}</span>
                    {#if product.platforms?.length}for {product.platforms.join(', ')}{/if}
                    {product.tags.length ? 'tagged' : `of ${job.split('/')[1]}`}
                    {#each product.tags as tag (tag)}<span class="ml-1 rounded bg-primary-100 px-1.5 font-mono dark:bg-primary-900">{tag}</span>{/each}
                {:else if product.made === 'release'}
                    <span class="font-semibold">{product.environment}</span> runs <span class="font-mono">{product.tag ?? product.image}</span>
                    {#if product.address}at <a class="text-ember underline" href={product.address} target="_blank" rel="noreferrer">{product.address}</a>{/if}
                {:else if product.made === 'files'}
                    files <a class="underline hover:text-ember" href={archivePath(run.project, run.number, job, product.name)} download>{product.name}</a> of {job.split('/')[1]} ({product.count}, {size(product.bytes)})
                {:else if product.made === 'output'}
                    {product.name} <span class="font-mono">{product.value.length > 60 ? `${product.value.slice(0, 60)}\u2026` : product.value}</span>
                {/if}
            </li>
        {/each}
    </ul>
{/if}
