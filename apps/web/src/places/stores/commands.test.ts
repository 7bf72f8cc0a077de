import type { NodeItem } from '@quay/contract';
import type { Act } from '@quay/core';
import { describe, expect, it, vi } from 'vitest';
import { commandsFor, keysOf, menuOf, type Doing } from './commands';

const item = (id: string, part: Partial<NodeItem> = {}): NodeItem =>
  ({ id, name: `${id}.pdf`, kind: 'file', sizeBytes: 1, pinned: false, mine: false, ...part }) as NodeItem;
const doing = (): Doing => ({
  ...{ open: vi.fn(), download: vi.fn(), ontoSlip: vi.fn(), ask: vi.fn() },
  ...{ toClipboard: vi.fn(), pin: vi.fn(), details: vi.fn(), trash: vi.fn() },
});
const all = () => true;
const words = (chosen: NodeItem[], may: (act: Act) => boolean = all) =>
  commandsFor(chosen, may, doing()).map((c) => c.words);

describe('what can be done to the chosen items', () => {
  it('is nothing without any, and less for several than for one', () => {
    expect(words([])).toEqual([]);
    expect(words([item('a')])).toContain('Rename');
    expect(words([item('a'), item('b')])).not.toContain('Rename');
    expect(words([item('a'), item('b')])).toContain('Move to the trash');
  });

  it('is what they may do, and no more, by whatever way it is called', () => {
    const may = (act: Act) => act === 'see' || act === 'read';
    const commands = commandsFor([item('a')], may, doing());
    expect(commands.map((c) => c.words)).toEqual(['Look at it', 'Download', 'Copy to ...', 'Copy', 'Pin', 'Details']);
    expect(Object.keys(keysOf(commands))).toEqual(['ctrl+c']);
  });

  it('stands in the menu in groups, and none is empty', () => {
    const menu = menuOf(commandsFor([item('a')], all, doing()));
    expect(menu.filter((e) => e === null)).toHaveLength(3);
    expect(menu[0]).not.toBeNull();
    expect(menu.at(-1)).toMatchObject({ words: 'Move to the trash', bad: true });
    expect(menuOf(commandsFor([item('a')], () => false, doing())).map((e) => e?.words)).toEqual([
      ...['Look at it', undefined, 'Pin', 'Details'],
    ]);
  });

  it('has one key for each, and each does what it says to what is chosen', () => {
    const chosen = [item('a', { pinned: true }), item('b', { pinned: true })];
    const did = doing();
    const commands = commandsFor(chosen, all, did);
    const presses = commands.flatMap((c) => c.press ?? []);
    expect(new Set(presses).size).toBe(presses.length);
    for (const command of commands) command.run();
    expect(did.pin).toHaveBeenCalledWith(chosen, false);
    expect(did.trash).toHaveBeenCalledWith(chosen);
    expect(did.toClipboard).toHaveBeenNthCalledWith(1, chosen, 'move');
    expect(did.ask).toHaveBeenCalledWith({ kind: 'choose', items: chosen, how: 'move' });
  });
});
