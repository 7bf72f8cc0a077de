import { MutationObserver, QueryClient } from '@tanstack/react-query';
import { afterEach, expect, it } from 'vitest';
import { undoWhenAnswered, useNotices } from './notices';

afterEach(() => useNotices.setState({ list: [] }));

/** Something asked for, whose answer comes when the test says so, and that offers its way back then. */
function asked(client: QueryClient, words: string, undone: string[]) {
  let answer: () => void = () => undefined;
  const mutation = new MutationObserver(client, {
    mutationFn: () => new Promise<void>((resolve) => (answer = resolve)),
  });
  const settled = mutation
    .mutate(undefined)
    .then(() => useNotices.getState().show(words, { undo: () => undone.push(words) }));
  return { answer: () => answer(), settled };
}

it('undo before the answer takes back what was just asked for, not the thing before it', async () => {
  const client = new QueryClient();
  const undone: string[] = [];
  useNotices.getState().show('earlier', { undo: () => undone.push('earlier') });
  const withdraw = asked(client, 'withdrawn', undone);
  const undo = undoWhenAnswered(client);
  await new Promise((resolve) => setTimeout(resolve, 20));
  expect(undone).toEqual([]);
  withdraw.answer();
  await undo;
  expect(undone).toEqual(['withdrawn']);
  await undoWhenAnswered(client);
  expect(undone).toEqual(['withdrawn', 'earlier']);
});

it('undo with nothing to take back does nothing', async () => {
  useNotices.getState().show('only words');
  await undoWhenAnswered(new QueryClient());
  expect(useNotices.getState().list).toHaveLength(1);
});
