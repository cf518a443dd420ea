export function StatusText({ status }: { status: number }) {
  return (
    <span className={status >= 500 ? 'mono care' : 'mono'} style={{ fontWeight: status >= 400 ? 700 : 400 }}>
      {status}
    </span>
  );
}
