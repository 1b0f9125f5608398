import { Activity, Anchor, EyeOff, FileText, Globe, Image, KeyRound, Layers, LayoutTemplate, Link2, LockKeyhole, Mail, Radio, ScrollText, Settings, Shapes, Telescope, Users, Workflow } from "lucide-react";
import type { ReactNode } from "react";

/** The pages of the rail, in the order of the work. */
export const rail: { group?: string; to: string; name: string; icon: ReactNode; admins?: boolean }[] = [
  { to: "/", name: "Now", icon: <Activity size={16} /> },
  { group: "Content", to: "/types", name: "Types", icon: <Shapes size={16} /> },
  { to: "/entries", name: "Entries", icon: <FileText size={16} /> },
  { to: "/files", name: "Files", icon: <Image size={16} /> },
  { to: "/origins", name: "Origins", icon: <Anchor size={16} /> },
  { group: "Reading", to: "/explorer", name: "Explorer", icon: <Telescope size={16} /> },
  { to: "/shapes", name: "Shapes", icon: <LayoutTemplate size={16} /> },
  { to: "/keys", name: "Keys", icon: <KeyRound size={16} />, admins: true },
  { to: "/previews", name: "Preview links", icon: <Link2 size={16} /> },
  { to: "/why", name: "Why not visible", icon: <EyeOff size={16} /> },
  { group: "Freshness", to: "/events", name: "Events", icon: <Radio size={16} /> },
  { to: "/rules", name: "Rules", icon: <Workflow size={16} /> },
  { to: "/sites", name: "Sites", icon: <Globe size={16} /> },
  { to: "/cache", name: "Cache", icon: <Layers size={16} /> },
  { group: "Service", to: "/settings", name: "Settings", icon: <Settings size={16} /> },
  { to: "/notifications", name: "Mail", icon: <Mail size={16} />, admins: true },
  { to: "/secrets", name: "Secrets", icon: <LockKeyhole size={16} />, admins: true },
  { to: "/accounts", name: "Accounts", icon: <Users size={16} />, admins: true },
  { to: "/audit", name: "Audit log", icon: <ScrollText size={16} />, admins: true },
];
