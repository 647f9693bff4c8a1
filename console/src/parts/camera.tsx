import { useEffect, useRef, useState } from "react";
import { Button } from "./controls";

/** Reads barcodes in a picture; only some browsers have it. */
interface Detector {
  detect: (from: HTMLVideoElement) => Promise<{ rawValue: string }[]>;
}
type Window = { BarcodeDetector?: new (options?: { formats: string[] }) => Detector };

const formats = ["code_128", "data_matrix", "ean_13", "ean_8", "upc_a", "itf", "qr_code"];

/** Whether this browser can read barcodes with a camera. */
export const hasCamera = () =>
  typeof (window as Window).BarcodeDetector === "function" && typeof navigator.mediaDevices?.getUserMedia === "function";

/** A button that opens the camera of a phone; what it reads is scanned like by a scanner that types. */
export function CameraButton({ onScan }: { onScan: (code: string) => void }) {
  const [on, setOn] = useState(false);
  if (!hasCamera()) return null;
  return (
    <>
      <Button large onClick={() => setOn(!on)} aria-pressed={on}>
        Camera
      </Button>
      {on && <Camera onScan={onScan} />}
    </>
  );
}

/** How long the same code is not read again, in milliseconds: the camera goes on looking at it. */
const same = 2500;

function Camera({ onScan }: { onScan: (code: string) => void }) {
  const video = useRef<HTMLVideoElement>(null);
  const scan = useRef(onScan);
  const [trouble, setTrouble] = useState("");
  useEffect(() => {
    scan.current = onScan;
  }, [onScan]);
  useEffect(() => {
    let stream: MediaStream | undefined;
    let over = false;
    let last = { code: "", at: 0 };
    const Reader = (window as Window).BarcodeDetector;
    const look = async (reader: Detector) => {
      if (over || !video.current) return;
      const [found] = await reader.detect(video.current).catch(() => []);
      const now = performance.now();
      if (found && (found.rawValue !== last.code || now - last.at > same)) {
        last = { code: found.rawValue, at: now };
        scan.current(found.rawValue);
      }
      setTimeout(() => void look(reader), 200);
    };
    void navigator.mediaDevices
      .getUserMedia({ video: { facingMode: "environment" } })
      .then(async (s) => {
        stream = s;
        if (over || !video.current || !Reader) return s.getTracks().forEach((t) => t.stop());
        video.current.srcObject = s;
        await video.current.play();
        await look(new Reader({ formats }));
      })
      .catch((e: unknown) => setTrouble(e instanceof Error ? e.message : String(e)));
    return () => {
      over = true;
      stream?.getTracks().forEach((t) => t.stop());
    };
  }, []);
  if (trouble)
    return (
      <p role="alert" className="w-full border-l-4 border-stop bg-sheet px-3 py-2">
        The camera cannot be used: {trouble}
      </p>
    );
  return <video ref={video} muted playsInline aria-label="Camera" className="max-h-72 w-full rounded-[3px] bg-ink object-cover" />;
}
