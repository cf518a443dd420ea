/** A condition as a leaf, told by its form as well as its colour, with the word beside it. */
import type { EnvironmentCondition } from '@orchard/core';

const OUTLINE = 'M12 2.5C18.5 6.5 19.5 14 12 20.5C4.5 14 5.5 6.5 12 2.5Z';

function Drawing({ of }: { of: EnvironmentCondition }) {
  switch (of) {
    case 'thriving':
      return (
        <>
          <path d={OUTLINE} className="blade" />
          <path d="M12 5.5V22.5M12 11L8.6 8.8M12 11L15.4 8.8M12 15.2L9 13M12 15.2L15 13" className="vein" />
        </>
      );
    case 'stressed':
      return (
        <>
          <path d="M12 2.5C5.5 6.5 4.5 14 12 20.5Z" className="blade" />
          <path d={OUTLINE} className="outline" />
          <path d="M12 2.5V22.5" className="outline" />
        </>
      );
    case 'failing':
      return <path d="M12 22.5V3M12 15.5L6 10.5M12 11L18.2 5.8M12 18.5L17 15" className="twig" />;
    case 'dormant':
      return (
        <>
          <path d="M12 22.5V12" className="twig" />
          <path d="M12 3.5C14.8 6 14.8 10.6 12 12.5C9.2 10.6 9.2 6 12 3.5Z" className="blade" />
        </>
      );
  }
}

export function Leaf({ of, size = 18 }: { of: EnvironmentCondition; size?: number }) {
  return (
    <svg viewBox="0 0 24 24" width={size} height={size} className="leaf" data-condition={of} aria-hidden="true">
      <Drawing of={of} />
    </svg>
  );
}

export function Condition({ of, size }: { of: EnvironmentCondition; size?: number }) {
  return (
    <span className="condition" data-condition={of}>
      <Leaf of={of} {...(size ? { size } : {})} />
      {of}
    </span>
  );
}
