import { draftMode } from "next/headers";
import { exitPreview } from "ubiquon-kit";

export const GET = async (request) => ((await draftMode()).disable(), exitPreview(request));
