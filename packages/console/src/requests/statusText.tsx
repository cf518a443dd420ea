export function StatusText({ status }: { status: number }) {
  const hasFailed = status >= 500 || status === 0;
  return (
    <span className={hasFailed ? 'mono care' : 'mono'} style={{ fontWeight: hasFailed || status >= 400 ? 700 : 400 }}>
      {status === 0 ? 'none' : status}
    </span>
  );
}
