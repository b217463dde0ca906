<script lang="ts">
    import Button from 'flowbite-svelte/Button.svelte';
    import Input from 'flowbite-svelte/Input.svelte';
    import { listAudit, proveAudit, Refusal } from '../api/client';
    import type { AuditEntry, AuditProof } from '../api/types';
    import { clock } from '../clock.svelte';
    import { auditAddress, link, router, runAddress } from '../router.svelte';
    import { ago } from '../time';

    let { wanted, all }: { wanted: Record<string, string>; all: boolean } = $props();

    let entries = $state.raw<AuditEntry[]>([]);
    let next = $state<number | null>(null);
    let keep = $state('');
    let loaded = $state(false);
    let fault = $state('');
    let proof = $state.raw<AuditProof>();

    async function load(before?: number) {
        try {
            const page = await listAudit({ ...wanted, ...(before ? { before: String(before) } : {}), limit: '100' });
            entries = before ? [...entries, ...page.entries] : page.entries;
            next = page.next ?? null;
            keep = page.keep;
            fault = '';
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
        loaded = true;
    }

    async function prove() {
        try {
            proof = await proveAudit();
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
    }

    $effect(() => {
        void wanted;
        void load();
    });

    /** What may be asked for, with what stands in the field while nothing does. */
    const fields: [name: string, label: string, hint: string][] = [
        ['who', 'who', 'wren'],
        ['action', 'what', 'secret set'],
        ['project', 'project', 'lantern'],
        ['from', 'from address', '192.0.2.7'],
    ];
    const results = ['', 'done', 'refused', 'failed'];

    function ask(change: Record<string, string>) {
        const asked = Object.fromEntries(Object.entries({ ...wanted, ...change }).filter(([, value]) => value));
        router.go(auditAddress(asked));
    }

    const command = $derived(
        ['pondrix audit list', ...Object.entries(wanted).map(([name, value]) => `--${name} ${/[^\w.:/*-]/.test(value) ? `'${value}'` : value}`)].join(' '),
    );
    const day = (entry: AuditEntry) => entry.at.slice(0, 10);
    /** Result by word, shape and colour together. */
    const marks: Record<string, [string, string]> = {
        done: ['\u25CF', 'text-gray-500 dark:text-gray-400'],
        refused: ['\u25B2', 'font-medium text-failed'],
        failed: ['\u25A0', 'font-medium text-failed'],
    };
    const run = (entry: AuditEntry) =>
        entry.project && entry.action.startsWith('run ') && /^#[0-9]+$/.test(entry.target) && entry.result === 'done'
            ? runAddress(entry.project, Number(entry.target.slice(1)))
            : undefined;
</script>

<div class="px-5 py-4">
    <div class="mb-3 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h1 class="text-lg font-semibold">Audit</h1>
        <span class="text-gray-500 dark:text-gray-400">who did what to what{all ? '' : ', in the projects that you administer'}{keep ? (keep === 'forever' ? '; kept for ever' : `; kept for ${keep}`) : ''}</span>
        {#if all}
            <span class="ml-auto flex items-baseline gap-3">
                {#if proof}
                    <span role="status" class={proof.broken ? 'text-failed' : 'text-passed'} title={`its end is ${proof.end}`}>
                        {proof.broken ? `\u25B2 broken: ${proof.broken}` : `\u25CF whole: ${proof.entries} entries, none changed or missing`}
                    </span>
                {/if}
                <Button size="xs" color="alternative" class="!py-1" title="pondrix audit verify" onclick={prove}>Verify</Button>
            </span>
        {/if}
    </div>
    <form
        class="mb-3 flex flex-wrap items-end gap-3"
        onsubmit={(event) => {
            event.preventDefault();
            const given = new FormData(event.currentTarget);
            ask(Object.fromEntries(fields.map(([name]) => [name, String(given.get(name) ?? '').trim()])));
        }}
    >
        {#each fields as [name, label, hint] (name)}
            <label class="w-40 text-xs text-gray-500 dark:text-gray-400">{label}<Input {name} size="sm" value={wanted[name] ?? ''} placeholder={hint} class="!py-1" /></label>
        {/each}
        <div class="flex gap-1" role="group" aria-label="Result">
            {#each results as result (result)}
                {@const chosen = (wanted['result'] ?? '') === result}
                <button type="button" aria-pressed={chosen} onclick={() => ask({ result })} class={['cursor-pointer rounded px-2 py-1', chosen ? 'bg-primary-700 text-lily' : 'text-gray-600 hover:bg-primary-50 dark:text-gray-300 dark:hover:bg-gray-900']}>{result || 'all'}</button>
            {/each}
        </div>
        <Button size="xs" type="submit" class="!py-1.5">Show</Button>
        {#if Object.keys(wanted).length}<a href="/audit" onclick={link} class="py-1 text-primary-700 hover:underline dark:text-primary-200">everything</a>{/if}
        <code class="ml-auto py-1 text-xs text-gray-500 dark:text-gray-400" title="the command that does the same">{command}</code>
    </form>
    {#if fault}<p role="alert" class="mb-3 text-failed">{fault}</p>{/if}
    {#if entries.length}
        <table class="w-full table-fixed text-left" aria-label="What was done, the newest first">
            <colgroup><col class="w-20" /><col class="w-44" /><col class="w-44" /><col class="w-64" /><col class="w-24" /><col /></colgroup>
            <thead class="text-xs text-gray-500 dark:text-gray-400">
                <tr class="border-b border-gray-300 dark:border-gray-700">
                    <th class="py-1.5 font-normal">when</th><th class="font-normal">who</th><th class="font-normal">what</th><th class="font-normal">which</th><th class="font-normal">result</th><th class="font-normal">more</th>
                </tr>
            </thead>
            <tbody>
                {#each entries as entry, at (entry.number)}
                    {@const [mark, colour] = marks[entry.result] ?? ['', '']}
                    {@const before = entries[at - 1]}
                    {@const address = run(entry)}
                    {#if !before || day(before) !== day(entry)}
                        <tr><td colspan="6" class="pb-1 pt-3 text-xs text-gray-500 dark:text-gray-400">{day(entry)}, UTC</td></tr>
                    {/if}
                    <tr class="border-b border-gray-200 hover:bg-primary-50 dark:border-gray-800 dark:hover:bg-gray-900">
                        <td class="py-1.5 tabular-nums text-gray-500 dark:text-gray-400" title={`entry ${entry.number}, ${entry.at}, ${ago(clock.now - Date.parse(entry.at))}`}>{entry.at.slice(11, 19)}</td>
                        <td class="truncate" title={[entry.who, entry.token ? `token ${entry.token}` : '', entry.from ? `from ${entry.from}` : ''].filter(Boolean).join(', ')}>
                            <span class="font-medium">{entry.who}</span>{#if entry.from}<span class="text-xs text-gray-500 dark:text-gray-400">&ensp;{entry.from}</span>{/if}
                        </td>
                        <td class="truncate">{entry.action}</td>
                        <td class="truncate" title={[entry.target, entry.project].filter(Boolean).join(' in ')}>
                            {#if address}<a href={address} onclick={link} class="text-primary-700 hover:underline dark:text-primary-200">{entry.project}{entry.target}</a>{:else}{entry.target}{#if entry.project}<span class="text-gray-500 dark:text-gray-400">{entry.target ? ' in ' : ''}{entry.project}</span>{/if}{/if}
                        </td>
                        <td class={['truncate', colour]}><span aria-hidden="true">{mark}</span> {entry.result}</td>
                        <td class="truncate text-gray-600 dark:text-gray-300" title={entry.words}>{entry.words}</td>
                    </tr>
                {/each}
            </tbody>
        </table>
        {#if next}
            <button class="mt-3 cursor-pointer text-primary-700 hover:underline dark:text-primary-200" onclick={() => load(next ?? undefined)}>older ones</button>
        {/if}
    {:else if loaded && !fault}
        <p class="mt-16 text-center text-gray-600 dark:text-gray-300">{Object.keys(wanted).length ? 'Nothing that is asked for was done.' : 'Here will be who did what: every change, sign-in and refusal.'}</p>
    {/if}
</div>
