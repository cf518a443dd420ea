import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  combinedProblem,
  fillTemplate,
  type Json,
  matchPath,
  namesIn,
  openApiProblem,
  operationsIn,
  orderOf,
  pathTypes,
  templateProblem,
  valueAtPath,
} from '../src/index.js';

const values = {
  hut: { name: 'Fellgate', beds: 12, at: { type: 'Point', coordinates: [8, 61] } },
  list: [
    { id: 1, kind: 'bunk' },
    { id: 2, kind: 'floor' },
  ],
  none: null,
};

describe('a template', () => {
  it.each<[Json, Json]>([
    ['{hut.name}', 'Fellgate'],
    ['{hut.beds}', 12],
    ['{hut.at}', values.hut.at],
    ['{hut.at.coordinates.1}', 61],
    ['{hut.nothing.at.all}', null],
    ['{hut.name}, {hut.beds} beds{none}', 'Fellgate, 12 beds'],
    ['at {hut.at.coordinates}', 'at [8,61]'],
    [
      { each: '{list}', as: 'one', give: { no: '{one.id}', of: '{hut.name}' } },
      [
        { no: 1, of: 'Fellgate' },
        { no: 2, of: 'Fellgate' },
      ],
    ],
    [{ each: '{list}' }, values.list],
    [{ each: '{hut.name}', give: 1 }, []],
    [{ find: '{list}', where: { kind: 'floor' }, give: '{item.id}' }, 2],
    [{ find: '{list}', where: { kind: '{hut.name}' } }, null],
    [{ or: ['{hut.note}', '', '{hut.name}'] }, 'Fellgate'],
    [{ or: ['{hut.note}'] }, null],
    [{ a: ['{hut.beds}', true, 3] }, { a: [12, true, 3] }],
    ['{constructor.name}', null],
    ['{hut.__proto__}', null],
  ])('%j gives %j', (template, wanted) => expect(fillTemplate(template, values)).toEqual(wanted));

  it('without paths gives itself, whatever it is', () => {
    const plain = fc.jsonValue({ stringUnit: fc.constantFrom('a', 'b', 'ø', ' ') });
    fc.assert(
      fc.property(plain, (value) => {
        expect(fillTemplate(value as Json, {})).toEqual(value);
      }),
    );
  });

  it('takes a value as it stands, from any place', () => {
    fc.assert(
      fc.property(fc.array(fc.stringMatching(/^[a-z]\w{0,5}$/), { minLength: 1, maxLength: 4 }), fc.jsonValue(), (path, value) => {
        const nested = path.reduceRight<Json>((inner, name) => ({ [name]: inner }), value as Json);
        expect(fillTemplate(`{${path.join('.')}}`, nested as never)).toEqual(value);
        expect(valueAtPath(nested as never, path.join('.'))).toEqual(value);
        expect([...namesIn(`x {${path.join('.')}} y`)]).toEqual([path[0]]);
      }),
    );
  });

  it('that gives without end is stopped', () => {
    const long = { list: Array.from({ length: 1000 }, (_, i) => i) };
    const template = { each: '{list}', give: { each: '{list}', give: { each: '{list}', give: 1 } } };
    expect(() => fillTemplate(template, long)).toThrow('more than 200,000 values');
  });

  it.each([
    [{ each: '{a}', gives: 1 }, '`each` beside `gives`'],
    [{ x: { each: 7 } }, 'x.each is no path'],
    [{ or: '{a}' }, 'or is no list'],
    [[{ find: '{a}', with: {} }], '`find` beside `with`'],
  ])('%j is not sound', (template, words) => expect(templateProblem(template as Json)).toContain(words));
});

describe('calls that are combined', () => {
  const call = (path: string) => ({ upstream: 'weather', path });
  it('run in rounds: each after those it needs', () => {
    expect(orderOf({ c: call('/{b.x}/{a.y}'), a: call('/{params.hut}'), b: call('/x'), d: call('/{c}') })).toEqual({
      order: [['a', 'b'], ['c'], ['d']],
    });
    expect(orderOf({ a: call('/{b.x}'), b: call('/{a.x}') })).toEqual({ circle: ['a', 'b'] });
  });

  it.each([
    [7, 'no object'],
    [{ calls: {}, answer: 1 }, '0 calls'],
    [{ calls: { a: {} }, answer: 1 }, 'neither `records` nor an `upstream`'],
    [{ calls: { params: call('/') }, answer: 1 }, 'none of params'],
    [{ calls: { a: { records: 'huts' } }, answer: 1 }, 'one of read, list and summary'],
    [{ calls: { a: { ...call('/'), verb: 'GET' } }, answer: 1 }, 'no member `verb`'],
    [{ calls: { a: { ...call('/'), failing: 'ignore' } }, answer: 1 }, 'failing is refuse'],
    [{ calls: { a: call('/') } }, 'no `answer`'],
    [{ calls: { a: call('/') }, answer: '{b.x}' }, 'uses {b}'],
    [{ calls: { a: call('/{b}'), b: call('/{a}') }, answer: 1 }, 'in a circle'],
    [{ calls: { a: call('/') }, answer: 1, more: 2 }, 'no member `more`'],
    [{ calls: { a: call('/') }, answer: { each: 1 } }, 'not sound'],
  ])('%j is told what is wrong', (document, words) => expect(combinedProblem(document)).toContain(words));

  it('are sound with all that they can be', () => {
    const calls = {
      hut: { records: 'huts', read: '{params.hut}' },
      prices: { ...call('/{hut.id}'), pages: { items: 'items', next: 'next', as: 'cursor' }, failing: { instead: [] } },
    };
    expect(combinedProblem({ calls, answer: { each: '{prices.items}', as: 'price', give: '{price.crowns}' }, status: 200 })).toBeNull();
  });
});

describe('a description by OpenAPI', () => {
  it('tells operations, and refuses what is none', () => {
    const document = {
      openapi: '3.1.0',
      paths: { '/huts/{hut}': { get: { operationId: 'hut', description: 'One' }, parameters: [], patch: 7 }, '/x': 1 },
    };
    expect(operationsIn(document as never)).toEqual([{ id: 'hut', method: 'GET', path: '/huts/{hut}', summary: 'One' }]);
    expect([openApiProblem(document as never), openApiProblem({ swagger: '2.0' }), openApiProblem({ openapi: '3.0.0' })]).toEqual([
      null,
      expect.stringContaining('openapi'),
      'It has no `paths`',
    ]);
  });

  it('has paths that match addresses, and are types', () => {
    expect(matchPath('/huts/{hut}/sky', '/huts/fellgate/sky')).toEqual({ hut: 'fellgate' });
    expect([matchPath('/huts/{hut}', '/huts/'), matchPath('/huts/{hut}', '/huts/a/b'), matchPath('/huts', '/hutz')]).toEqual([
      null,
      null,
      null,
    ]);
    expect(pathTypes(['/a/{b}', '/c'])).toBe(`\`/a/$${'{string}'}\` | \`/c\``);
    expect(pathTypes([])).toBe('string');
  });
});
