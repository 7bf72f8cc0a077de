import { describe, expect, it } from 'vitest';
import { namedAs, readQuestion } from './questions.js';

describe('a question', () => {
  it.each([
    ['who can open Payroll', { kind: 'who', act: 'read', folder: 'Payroll' }],
    ['Who reaches "Mill Lane"?', { kind: 'who', act: 'read', folder: 'Mill Lane' }],
    ['who can upload to Weir House', { kind: 'who', act: 'add', folder: 'Weir House' }],
    ['who manages Office', { kind: 'who', act: 'manage', folder: 'Office' }],
    ['what can Noel reach', { kind: 'what', person: 'Noel' }],
    ['what does Zoe Calder see?', { kind: 'what', person: 'Zoe Calder' }],
    ["why can't Zoe upload here", { kind: 'why-not', person: 'Zoe', act: 'add', folder: null }],
    ['why can’t Zoe upload', { kind: 'why-not', person: 'Zoe', act: 'add', folder: null }],
    [
      'Why cannot Zoe Calder edit Mill Lane?',
      { kind: 'why-not', person: 'Zoe Calder', act: 'change', folder: 'Mill Lane' },
    ],
    ["why can't bram delete in Personnel", { kind: 'why-not', person: 'bram', act: 'remove', folder: 'Personnel' }],
  ])('%s', (text, question) => expect(readQuestion(text)).toEqual(question));
  it.each(['', 'Payroll', 'who', 'what can', 'why', 'whose is this', 'files named who'])('“%s” is none', (text) =>
    expect(readQuestion(text)).toBeNull(),
  );
});

describe('a name', () => {
  const people = [
    { name: 'Rosa Quill', signInName: 'rosa' },
    { name: 'Rosamund Birch', signInName: 'rb' },
    { name: 'Ada Birch', signInName: 'ada' },
  ];
  it.each([
    ['rosa', ['Rosa Quill']],
    ['ROSAMUND BIRCH', ['Rosamund Birch']],
    ['birch', ['Rosamund Birch', 'Ada Birch']],
    ['rb', ['Rosamund Birch']],
    ['qui', ['Rosa Quill']],
    ['nobody', []],
  ])('%s', (typed, found) => expect(namedAs(typed, people).map((p) => p.name)).toEqual(found));
});
