CREATE TABLE "saved_position" (
	"id" bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY (sequence name "saved_position_id_seq" INCREMENT BY 1 MINVALUE 1 MAXVALUE 9223372036854775807 START WITH 1 CACHE 1),
	"pipeline" text NOT NULL,
	"kind" text NOT NULL,
	"at" timestamp with time zone NOT NULL,
	"position" jsonb NOT NULL,
	"complete_up_to" text,
	"note" text
);
--> statement-breakpoint
ALTER TABLE "errand" ADD COLUMN "to" jsonb;--> statement-breakpoint
ALTER TABLE "errand" ADD COLUMN "reason" text;--> statement-breakpoint
ALTER TABLE "saved_position" ADD CONSTRAINT "saved_position_pipeline_pipeline_id_fk" FOREIGN KEY ("pipeline") REFERENCES "public"."pipeline"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "saved_position_pipeline" ON "saved_position" USING btree ("pipeline","id");