import { Problem } from '@orchard/contract';
import { Trouble } from '../parts/basics.js';

/** Errors as the check gives them: at a file, line and column. */
export function CheckErrors({ error }: { error: unknown }) {
  if (!(error instanceof Problem) || error.problem !== 'function-refused') return <Trouble error={error} />;
  return (
    <ul className="check-errors" role="alert">
      {(error.extras.fields ?? []).map(({ path, problem }) => (
        <li key={path + problem}>
          <span className="mono">{path}</span> {problem}
        </li>
      ))}
    </ul>
  );
}
