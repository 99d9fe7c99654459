-- Events as they came, where the space keeps them (setting keepEventData).
ALTER TABLE event ADD COLUMN content BLOB;
