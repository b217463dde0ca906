<script lang="ts">
    import { AnsiReader, type Piece } from '../ansi';
    import { logPath } from '../api/client';
    import { follow, logTopic } from '../api/events';
    import type { JobUsage } from '../api/types';
    import { usageParts } from '../usage';

    let { project, number, job, usage }: { project: string; number: number; job: string; usage?: JobUsage | null } = $props();
    const used = $derived(usageParts(usage));

    /** More lines than this slow a browser down; the full log is a click away. */
    const MOST = 4000;

    let lines = $state.raw<Piece[][]>([]);
    let count = $state(0);
    let over = $state(false);
    let pane = $state<HTMLElement>();
    let atEnd = true;

    $effect(() => {
        const reader = new AnsiReader(MOST);
        lines = [];
        count = 0;
        over = false;
        let frame = 0;
        const show = () => {
            frame = 0;
            lines = reader.tail();
            count = reader.count;
        };
        const stop = follow(
            logTopic(project, number, job),
            {
                log: ({ text }: { text: string }) => {
                    reader.feed(text);
                    frame ||= requestAnimationFrame(show);
                },
                end: () => (over = true),
            },
        );
        return () => {
            stop();
            cancelAnimationFrame(frame);
        };
    });

    $effect(() => {
        if (lines.length && pane && atEnd) pane.scrollTop = pane.scrollHeight;
    });

    function scrolled() {
        if (pane) atEnd = pane.scrollTop + pane.clientHeight > pane.scrollHeight - 24;
    }
</script>

<div class="flex min-h-0 flex-1 flex-col">
    <div class="flex items-center gap-3 px-4 py-1.5 text-xs text-gray-500 dark:text-gray-400">
        <span class="font-mono">{job}</span>
        <span>{count} line{count === 1 ? '' : 's'}</span>
        {#if count > MOST}<span>the last {MOST} are shown</span>{/if}
        {#if !over}<span class="text-running">live</span>{/if}
        {#if used.length}<span title="Peak memory, CPU time, processes and bytes of disk, as the runner measured them">used {used.join(', ')}</span>{/if}
        <a class="ml-auto underline hover:text-ember" href={logPath(project, number, job)} target="_blank" rel="noreferrer">full log</a>
    </div>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div bind:this={pane} onscroll={scrolled} tabindex="0" role="log" aria-label="Log of {job}" class="min-h-0 flex-1 overflow-auto bg-gray-950 py-2 font-mono text-[12.5px] leading-[1.55] text-[#dfe7e3]">
        {#if count === 0}
            <p class="px-4 text-gray-400">{over ? 'This job wrote nothing.' : 'Nothing yet. Lines show here as the job writes them.'}</p>
        {/if}
        {#each lines as line, index (count - lines.length + index)}
            <div class="flex px-2 hover:bg-white/5">
                <span class="w-12 shrink-0 select-none pr-3 text-right text-gray-600">{count - lines.length + index + 1}</span>
                <span class="whitespace-pre-wrap break-all">{#each line as piece, at (at)}<span style={piece.style}>{piece.text}</span>{/each}</span>
            </div>
        {/each}
    </div>
</div>
