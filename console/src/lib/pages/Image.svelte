<script lang="ts">
    import { Refusal, showImage } from '../api/client';
    import type { ImageDetail } from '../api/types';
    import { clock } from '../clock.svelte';
    import { imageAddress, link, runAddress } from '../router.svelte';
    import { ago, bytes, shortDigest } from '../time';

    let { name }: { name: string } = $props();

    let detail = $state.raw<ImageDetail>();
    let fault = $state('');
    let all = $state(false);

    /** How many packages are shown before all are asked for. */
    const SHOWN = 12;

    $effect(() => {
        showImage(name).then(
            (found) => (detail = found),
            (error) => (fault = error instanceof Refusal ? error.message : String(error)),
        );
    });

    const runOf = (run: string) => {
        const [project = '', number = ''] = run.split('#');
        return runAddress(project, Number(number));
    };
    /** What the image says of itself, and where its base says something else. */
    const labels = $derived.by(() => {
        const own = detail?.labels ?? {}, base = detail?.of_base?.labels ?? {};
        const keys = [...new Set([...Object.keys(own), ...Object.keys(base)])].sort();
        return keys.flatMap((key) => [
            ...(key in own ? [{ key, value: own[key], ofBase: own[key] === base[key] }] : []),
            ...(key in base && own[key] !== base[key] ? [{ key, value: base[key], ofBase: true }] : []),
        ]);
    });
    const most = $derived(Math.max(1, ...(detail?.layers.map((layer) => layer.size) ?? [])));
</script>

<div class="px-5 py-4">
    {#if fault}<p role="alert" class="text-failed">{fault}</p>{/if}
    {#if detail}
        {@const image = detail.summary}
        <p class="mb-1 text-xs"><a href="/images" onclick={link} class="underline hover:text-ember">all images</a></p>
        <h1 class="text-lg font-semibold break-all">{image.repository}</h1>
        <p class="mb-4 font-mono text-xs break-all text-gray-500 dark:text-gray-400">{image.digest}</p>
        <dl class="mb-6 grid max-w-4xl grid-cols-[7rem_1fr] gap-x-4 gap-y-1">
            <dt class="text-gray-500 dark:text-gray-400">tags</dt><dd>{image.tags.join(' ') || 'none'}</dd>
            <dt class="text-gray-500 dark:text-gray-400">created</dt>
            <dd title={image.created}>{ago(clock.now - Date.parse(image.created))} by <a href={runOf(image.run)} onclick={link} class="underline">{image.run}</a> {image.job}, of commit <span class="font-mono text-xs">{image.commit.slice(0, 12)}</span></dd>
            <dt class="text-gray-500 dark:text-gray-400">runs in</dt><dd>{image.runs_in.join(' ') || 'no environment'}</dd>
            <dt class="text-gray-500 dark:text-gray-400">built on</dt>
            <dd>
                {#if image.base}
                    {image.base} <span class="font-mono text-xs text-gray-500 dark:text-gray-400">{shortDigest(image.base_digest ?? '')}</span>{#if detail.of_base?.created}, made {detail.of_base.created.slice(0, 10)}{/if}
                    {#if image.base_now}<span class="text-failed"><span aria-hidden="true">{'\u25B2'}</span> behind: it is {shortDigest(image.base_now)} now</span>{/if}
                {:else}nothing{/if}
            </dd>
            <dt class="text-gray-500 dark:text-gray-400">size</dt><dd>{bytes(image.size)} in {detail.layers.length} layers</dd>
        </dl>
        <h2 class="mb-1 text-xs text-gray-500 dark:text-gray-400">layers, the lowest first</h2>
        <table class="mb-6 w-full table-fixed text-left">
            <tbody>
                {#each detail.layers as layer, place (place)}
                    <tr class="border-b border-gray-200 dark:border-gray-800">
                        <td class="w-44 py-1.5 font-mono text-xs">{shortDigest(layer.digest)}</td>
                        <td class="w-20 text-right tabular-nums">{bytes(layer.size)}</td>
                        <td class="w-36 px-3"><div class="h-2 rounded-sm {layer.of_base ? 'bg-gray-400' : 'bg-primary-500'}" style:width="{Math.max(2, (100 * layer.size) / most)}%"></div></td>
                        <td class="w-16 text-xs text-gray-500 dark:text-gray-400">{layer.of_base ? 'base' : ''}</td>
                        <td class="truncate font-mono text-xs" title={layer.made_by}>{layer.made_by.split('\n')[0]}</td>
                    </tr>
                {/each}
            </tbody>
        </table>
        <div class="grid gap-8 lg:grid-cols-2">
            <section>
                <h2 class="mb-1 text-xs text-gray-500 dark:text-gray-400">packages</h2>
                {#if detail.packages.length}
                    <table class="w-full table-fixed text-left">
                        <tbody>
                            {#each all ? detail.packages : detail.packages.slice(0, SHOWN) as one (`${one.kind} ${one.name} ${one.version}`)}
                                <tr class="border-b border-gray-200 dark:border-gray-800"><td class="w-20 py-1 text-xs text-gray-500 dark:text-gray-400">{one.kind}</td><td class="truncate">{one.name}</td><td class="w-40 truncate tabular-nums">{one.version}</td></tr>
                            {/each}
                        </tbody>
                    </table>
                    {#if !all && detail.packages.length > SHOWN}<button class="mt-2 cursor-pointer text-xs underline" onclick={() => (all = true)}>all {detail.packages.length}</button>{/if}
                {:else}
                    <p class="text-gray-600 dark:text-gray-300">None that an installer wrote down.</p>
                {/if}
            </section>
            <section>
                <h2 class="mb-1 text-xs text-gray-500 dark:text-gray-400">what tags of this repository meant, the newest first</h2>
                <table class="w-full table-fixed text-left">
                    <tbody>
                        {#each detail.tags as change, place (place)}
                            <tr class="border-b border-gray-200 dark:border-gray-800">
                                <td class="truncate py-1">{change.tag}</td>
                                <td class="w-44 font-mono text-xs"><a href={imageAddress(`${image.repository}@${change.digest}`)} onclick={link} class="hover:underline" class:font-semibold={change.digest === image.digest}>{shortDigest(change.digest)}</a></td>
                                <td class="w-24 text-gray-500 dark:text-gray-400">{ago(clock.now - Date.parse(change.at))}</td>
                                <td class="w-36 truncate"><a href={runOf(change.run)} onclick={link} class="hover:underline">{change.run}</a></td>
                            </tr>
                        {/each}
                    </tbody>
                </table>
            </section>
        </div>
        {#if labels.length}
            <h2 class="mt-6 mb-1 text-xs text-gray-500 dark:text-gray-400">labels</h2>
            <table class="mb-6 w-full table-fixed text-left">
                <tbody>
                    {#each labels as label, place (place)}
                        <tr class="border-b border-gray-200 dark:border-gray-800">
                            <td class="w-80 truncate py-1 font-mono text-xs" title={label.key}>{label.key}</td>
                            <td class="w-16 text-xs text-gray-500 dark:text-gray-400">{label.ofBase ? 'base' : ''}</td>
                            <td class="truncate text-xs" title={label.value}>{label.value}</td>
                        </tr>
                    {/each}
                </tbody>
            </table>
        {/if}
    {/if}
</div>
