ALTER TABLE "schedule" ADD COLUMN "only" text DEFAULT 'always' NOT NULL;--> statement-breakpoint
ALTER TABLE "schedule" ADD COLUMN "landed" jsonb;