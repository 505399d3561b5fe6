ALTER TABLE "pipeline" ADD COLUMN "plan" integer DEFAULT 0 NOT NULL;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "change" jsonb;