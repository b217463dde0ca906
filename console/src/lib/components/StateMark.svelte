<script lang="ts">
    import type { State } from '../api/types';

    let { state, word = true }: { state: State; word?: boolean } = $props();
</script>

<span class="inline-flex items-center gap-1.5 whitespace-nowrap font-medium" style:color="var(--color-{state})" title={state}>
    <svg viewBox="0 0 16 16" class="size-3.5 shrink-0" class:turning={state === 'running'} fill="none" stroke="currentColor" stroke-width="2" aria-hidden="true">
        {#if state === 'passed'}<circle cx="8" cy="8" r="6" fill="currentColor" />
        {:else if state === 'failed'}<path d="M3 3l10 10M13 3L3 13" stroke-width="3" />
        {:else if state === 'running'}<circle cx="8" cy="8" r="6" stroke-opacity=".3" /><path d="M8 2a6 6 0 0 1 6 6" stroke-width="3" />
        {:else if state === 'stopped'}<rect x="3" y="3" width="10" height="10" fill="currentColor" />
        {:else if state === 'skipped'}<path d="M3 8h10" />
        {:else if state === 'waiting'}<circle cx="8" cy="8" r="6" /><path d="M8 4.5V8h3" />
        {:else if state === 'lost'}<path d="M8 2l6 11H2z" /><path d="M8 6v3.5" />
        {:else}<circle cx="8" cy="8" r="6" stroke-dasharray="2.5 2.2" />{/if}
    </svg>
    {#if word}{state}{/if}
</span>

<style>
    .turning {
        animation: turn 1.4s linear infinite;
    }
    @keyframes turn {
        to {
            transform: rotate(1turn);
        }
    }
    @media (prefers-reduced-motion: reduce) {
        .turning {
            animation: none;
        }
    }
</style>
