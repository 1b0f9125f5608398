import { draftMode } from "next/headers";
import { previewHandler } from "ubiquon-kit";

export const GET = previewHandler({ enter: async () => (await draftMode()).enable() });
