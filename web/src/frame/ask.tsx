import { useRef, type ReactNode } from "react";

/** A button behind which a question stands once, before something is lost or given away. */
export function Ask({ button, title, children, act, yes, className = "btn btn-sm", disabled = false, harmless = false, onOpen }: { button: ReactNode; title: string; children: ReactNode; act: () => void; yes: string; className?: string; disabled?: boolean; harmless?: boolean; onOpen?: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  const open = () => {
    onOpen?.();
    dialog.current?.showModal();
  };
  return (
    <>
      <button type="button" className={className} onClick={open} disabled={disabled}>
        {button}
      </button>
      <dialog ref={dialog} className="modal" aria-label={title}>
        <div className="modal-box plate">
          <h3 className="text-xl font-semibold">{title}</h3>
          <div className="mt-2">{children}</div>
          <form method="dialog" className="mt-6 flex justify-end gap-2">
            <button className="btn">No</button>
            <button className={`btn ${harmless ? "btn-primary" : "btn-error"}`} onClick={act}>
              {yes}
            </button>
          </form>
        </div>
      </dialog>
    </>
  );
}
