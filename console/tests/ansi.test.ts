import { expect, test } from 'vitest';
import { AnsiReader, finalLine } from '../src/lib/ansi';

const read = (text: string, most = 100) => {
    const reader = new AnsiReader(most);
    reader.feed(text);
    return reader;
};
const texts = (reader: AnsiReader) => reader.tail().map((line) => line.map((piece) => piece.text).join(''));

test('a line is what a terminal shows in the end', () => {
    expect(finalLine('10%\r20%\r100%')).toBe('100%');
    expect(finalLine('long line\rshort')).toBe('shortline');
    expect(finalLine('gone\r\x1b[Kleft')).toBe('left');
    expect(finalLine('kept\r')).toBe('kept');
});

test('colours go on from line to line and piece to piece until they are taken back', () => {
    const reader = new AnsiReader(100);
    reader.feed('\x1b[31mred\nst');
    reader.feed('ill\x1b[0m plain\n');
    const [first, second] = reader.tail();
    expect(first?.[0]?.style).toMatch(/^color:#/);
    expect(second?.map((piece) => piece.text)).toEqual(['still', ' plain']);
    expect(second?.[0]?.style).toBe(first?.[0]?.style);
    expect(second?.[1]?.style).toBe('');
});

test('colours of all three kinds are understood, and other sequences are not shown', () => {
    const [line] = read('\x1b[38;5;196mcube\x1b[48;2;1;2;3mtrue\x1b[2J\x1b]0;title\x07end\n').tail();
    expect(line?.map((piece) => piece.text)).toEqual(['cube', 'true', 'end']);
    expect(line?.[0]?.style).toBe('color:rgb(255,0,0)');
    expect(line?.[1]?.style).toContain('background:rgb(1,2,3)');
});

test('markup in a log is text', () => {
    expect(texts(read('<script>alert(1)</script>\n'))).toEqual(['<script>alert(1)</script>']);
});

test('however long a log is, its last lines are kept, and all are counted', () => {
    const reader = new AnsiReader(10);
    for (let line = 0; line < 1000; line++) reader.feed(`line ${line}\n`);
    reader.feed('open');
    expect(reader.count).toBe(1001);
    expect(texts(reader)).toEqual([...Array.from({ length: 9 }, (_, at) => `line ${991 + at}`), 'open']);
    const kept = (reader as unknown as { lines: unknown[] }).lines.length;
    expect(kept).toBeLessThanOrEqual(20);
});
