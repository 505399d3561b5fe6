ALTER TABLE "log_entry" ADD COLUMN "lanes" text[] DEFAULT '{}' NOT NULL;--> statement-breakpoint
ALTER TABLE "pipeline" ADD COLUMN "detailed_until" timestamp with time zone;--> statement-breakpoint
CREATE INDEX "log_entry_at" ON "log_entry" USING btree ("level","at");