<script lang="ts">
    import { imageChain, listImages, Refusal } from '../api/client';
    import { follow } from '../api/events';
    import type { ChainLink, ImageSummary } from '../api/types';
    import { clock } from '../clock.svelte';
    import { imageAddress, link, runAddress } from '../router.svelte';
    import { ago, bytes, shortDigest } from '../time';

    let { onup }: { onup: (up: boolean) => void } = $props();

    let links = $state.raw<ChainLink[]>([]);
    let images = $state.raw<ImageSummary[]>([]);
    let loaded = $state(false);
    let fault = $state('');

    async function load() {
        try {
            [links, images] = await Promise.all([
                imageChain().then((chain) => chain.links),
                listImages().then((list) => list.images),
            ]);
            fault = '';
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
        loaded = true;
    }

    // A run that changes may have pushed something, or be what brings an image up to its base.
    $effect(() => {
        let waiting: ReturnType<typeof setTimeout> | undefined;
        const soon = () => {
            clearTimeout(waiting);
            waiting = setTimeout(() => void load(), 300);
        };
        const stop = follow('runs', { change: soon }, (up) => {
            onup(up);
            if (up) soon();
        });
        return () => {
            clearTimeout(waiting);
            stop();
        };
    });

    const behind = $derived(links.filter((one) => one.state !== 'current').length);
    const runOf = (run: string) => {
        const [project = '', number = ''] = run.split('#');
        return runAddress(project, Number(number));
    };
    /** State by word, shape and colour together. */
    const marks: Record<string, [string, string]> = {
        current: ['\u25CF', 'text-passed'],
        behind: ['\u25B2', 'text-failed'],
        starting: ['\u25D0', 'text-running'],
    };
</script>

<div class="px-5 py-4">
    <div class="mb-3 flex items-baseline gap-4">
        <h1 class="text-lg font-semibold">Images</h1>
        {#if loaded && links.length}
            <span class="text-gray-500 dark:text-gray-400">{behind ? `${behind} of ${links.length} are behind what they are built on` : `all ${links.length} are current: built on what their bases are now`}</span>
        {/if}
    </div>
    {#if fault}<p role="alert" class="mb-3 text-failed">{fault}</p>{/if}
    {#if links.length}
        <h2 class="mb-1 text-xs text-gray-500 dark:text-gray-400">what is built on what, bases first</h2>
        <table class="mb-6 w-full table-fixed text-left" aria-label="What is built on what">
            <colgroup><col class="w-[34%]" /><col class="w-56" /><col /><col class="w-60" /></colgroup>
            <tbody>
                {#each links as one (`${one.project} ${one.branch} ${one.job} ${one.repository}`)}
                    {@const [mark, colour] = marks[one.state] ?? ['', '']}
                    <tr class="border-b border-gray-200 dark:border-gray-800">
                        <td class="truncate py-1.5" style:padding-left="{one.depth * 1.5}rem">
                            {#if one.depth}<span class="mr-1.5 text-gray-400" aria-hidden="true">{'\u2514'}</span>{/if}<a href={imageAddress(`${one.repository}@${one.digest}`)} onclick={link} class="font-medium text-primary-700 hover:underline dark:text-primary-200">{one.repository}</a>
                        </td>
                        <td class={colour}><span aria-hidden="true">{mark}</span> {one.state}{one.behind_since ? `, since ${ago(clock.now - Date.parse(one.behind_since))}` : ''}</td>
                        <td class="truncate text-gray-600 dark:text-gray-300">{one.base ? `on ${one.base}` : 'on nothing'}</td>
                        <td class="truncate"><a href={runOf(one.run)} onclick={link} class="hover:underline">{one.run}</a> <span class="text-gray-500 dark:text-gray-400">{one.branch}</span></td>
                    </tr>
                {/each}
            </tbody>
        </table>
    {/if}
    {#if images.length}
        <h2 class="mb-1 text-xs text-gray-500 dark:text-gray-400">pushed, the newest first</h2>
        <table class="w-full table-fixed text-left">
            <thead class="text-xs text-gray-500 dark:text-gray-400">
                <tr class="border-b border-gray-300 dark:border-gray-700">
                    <th class="py-1.5 font-normal">image</th><th class="w-[20%] font-normal">tags</th><th class="w-44 font-normal">digest</th><th class="w-24 font-normal">created</th>
                    <th class="w-24 font-normal">size</th><th class="w-20 font-normal">packages</th><th class="w-44 font-normal">run</th><th class="w-24 font-normal">runs in</th>
                </tr>
            </thead>
            <tbody>
                {#each images as image (`${image.repository}@${image.digest}`)}
                    <tr class="border-b border-gray-200 hover:bg-primary-50 dark:border-gray-800 dark:hover:bg-gray-900">
                        <td class="truncate py-1.5"><a href={imageAddress(`${image.repository}@${image.digest}`)} onclick={link} class="font-medium text-primary-700 hover:underline dark:text-primary-200">{image.repository}</a></td>
                        <td class="truncate" title={image.tags.join(' ')}>{image.tags.join(' ')}</td>
                        <td class="font-mono text-xs">{shortDigest(image.digest)}</td>
                        <td class="text-gray-500 dark:text-gray-400" title={image.created}>{ago(clock.now - Date.parse(image.created))}</td>
                        <td class="tabular-nums">{bytes(image.size)}</td>
                        <td class="tabular-nums">{image.packages || ''}</td>
                        <td class="truncate"><a href={runOf(image.run)} onclick={link} class="hover:underline">{image.run}</a></td>
                        <td class="truncate">{image.runs_in.join(' ')}</td>
                    </tr>
                {/each}
            </tbody>
        </table>
    {:else if loaded && !fault}
        <div class="mt-16 text-center text-gray-600 dark:text-gray-300">
            <p class="mb-2 text-base">No image was pushed yet.</p>
            <p>An <code>image</code> in a pipeline file builds one, and pushes it.</p>
        </div>
    {/if}
</div>
