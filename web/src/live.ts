import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/**
 * useLive follows the service's stream and reads again what changed. One stream
 * a browser window; after an interruption the browser resumes it by itself.
 */
export function useLive() {
  const client = useQueryClient();
  useEffect(() => {
    const stream = new EventSource("/api/v1/stream");
    const again = (key: string) => void client.invalidateQueries({ queryKey: [key] });
    stream.addEventListener("change", (e: MessageEvent<string>) => {
      const { kind, id } = JSON.parse(e.data) as { kind: string; id: string };
      if (kind === "event") {
        again("events");
        return;
      }
      if (kind === "messages") {
        void client.invalidateQueries({ queryKey: ["device", id] });
        return;
      }
      again("attention");
      if (kind === "device" || kind === "task") {
        again("devices");
        again("device");
        again("tasks");
      } else {
        again(`${kind}s`);
      }
    });
    stream.addEventListener("reset", () => void client.invalidateQueries());
    return () => stream.close();
  }, [client]);
}
