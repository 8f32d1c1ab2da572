//! The object store behind the stand-in: objects are files under their keys, and what else is known of each is in a file of its own
//! in `.standin`, named after the hash of its key.

use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::io::{self, ErrorKind};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::SystemTime;

use bytes::Bytes;
use futures_util::TryStreamExt;
use s3s::crypto::{Checksum, Md5};
use s3s::dto::{Object as ListedObject, *};
use s3s::{Body, S3, S3Request, S3Response, S3Result, s3_error};

const KNOWN: &str = ".standin";

/// No single request of a stand-in brings more.
const LARGEST: usize = 128 << 20;

pub(crate) struct Buckets {
    folder: PathBuf,
    /// Looking at an object and changing it are one step.
    lock: Mutex<Uploads>,
}

/// Uploads in parts: what they are to become, and the parts that have come.
type Uploads = HashMap<String, (Known, BTreeMap<i32, Bytes>)>;

/// What is known of an object besides its bytes.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Known {
    tag: String,
    metadata: BTreeMap<String, String>,
}

struct Stored {
    path: PathBuf,
    size: u64,
    modified: SystemTime,
    known: Known,
}

fn md5(data: &[u8]) -> String {
    let mut hash = Md5::new();
    hash.update(data);
    hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
}

fn failed(error: io::Error) -> s3s::S3Error {
    match error.kind() {
        ErrorKind::NotFound | ErrorKind::NotADirectory => s3_error!(NoSuchKey),
        ErrorKind::InvalidFilename => s3_error!(KeyTooLongError),
        _ => s3_error!(error, InternalError),
    }
}

impl Buckets {
    pub(crate) fn new(folder: &Path) -> io::Result<Buckets> {
        fs::create_dir_all(folder.join(KNOWN))?;
        Ok(Buckets { folder: folder.to_owned(), lock: Mutex::default() })
    }

    fn lock(&self) -> MutexGuard<'_, Uploads> {
        self.lock.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn bucket(&self, bucket: &str) -> S3Result<PathBuf> {
        let path = self.folder.join(bucket);
        if bucket.starts_with('.') || !path.is_dir() { Err(s3_error!(NoSuchBucket)) } else { Ok(path) }
    }

    /// The file of an object; keys that lead elsewhere, or to a folder, are refused.
    fn file(&self, bucket: &str, key: &str) -> S3Result<PathBuf> {
        let plain = key.split('/').all(|part| !part.is_empty() && part != "." && part != "..");
        if !plain {
            return Err(s3_error!(InvalidArgument, "this stand-in holds no such key"));
        }
        Ok(self.bucket(bucket)?.join(key))
    }

    fn known_file(&self, bucket: &str, key: &str) -> PathBuf {
        self.folder.join(KNOWN).join(md5(format!("{bucket}/{key}").as_bytes()))
    }

    fn known(&self, bucket: &str, key: &str, path: &Path) -> S3Result<Known> {
        match fs::read_to_string(self.known_file(bucket, key)) {
            Ok(text) => {
                let mut lines = text.lines();
                let tag = lines.next().unwrap_or_default().to_owned();
                let pair = |line: &str| {
                    line.split_once('=').map(|(name, value)| (name.to_owned(), value.to_owned()))
                };
                Ok(Known { tag, metadata: lines.filter_map(pair).collect() })
            }
            Err(_) => Ok(Known { tag: md5(&fs::read(path).map_err(failed)?), metadata: BTreeMap::new() }),
        }
    }

    fn object(&self, bucket: &str, key: &str) -> S3Result<Stored> {
        let path = self.file(bucket, key)?;
        let meta = fs::metadata(&path).map_err(failed)?;
        if meta.is_dir() {
            return Err(s3_error!(NoSuchKey));
        }
        let known = self.known(bucket, key, &path)?;
        Ok(Stored { path, size: meta.len(), modified: meta.modified().map_err(failed)?, known })
    }

    fn put(&self, bucket: &str, key: &str, data: &[u8], known: &Known) -> S3Result<()> {
        let path = self.file(bucket, key)?;
        if let Some(parent) = path.parent() {
            fs::create_dir_all(parent).map_err(failed)?;
        }
        let metadata: String =
            known.metadata.iter().map(|(name, value)| format!("{name}={value}\n")).collect();
        fs::write(&path, data).map_err(failed)?;
        fs::write(self.known_file(bucket, key), format!("{}\n{metadata}", known.tag)).map_err(failed)
    }

    /// All keys of a bucket with a prefix, sorted.
    fn keys(&self, bucket: &str, prefix: &str) -> S3Result<Vec<String>> {
        let root = self.bucket(bucket)?;
        let mut found = Vec::new();
        let mut folders = vec![String::new()];
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(root.join(&folder)).map_err(failed)?.filter_map(Result::ok) {
                let Ok(name) = entry.file_name().into_string() else { continue };
                let key = format!("{folder}{name}");
                if entry.path().is_dir() {
                    folders.push(format!("{key}/"));
                } else if key.starts_with(prefix) {
                    found.push(key);
                }
            }
        }
        found.sort();
        Ok(found)
    }

    fn check(
        &self,
        bucket: &str,
        key: &str,
        none_match: Option<&ETagCondition>,
        matching: Option<&ETagCondition>,
    ) -> S3Result<()> {
        let found = self.object(bucket, key).ok();
        let broken = match (none_match, matching, &found) {
            (Some(_), _, Some(_)) => true,
            (_, Some(_), None) => true,
            (_, Some(ETagCondition::ETag(wanted)), Some(found)) => {
                !ETag::Strong(found.known.tag.clone()).strong_cmp(wanted)
            }
            _ => false,
        };
        if broken { Err(s3_error!(PreconditionFailed)) } else { Ok(()) }
    }
}

async fn whole(body: Option<StreamingBlob>) -> S3Result<Bytes> {
    let body = body.ok_or_else(|| s3_error!(IncompleteBody))?;
    let collect = body.try_fold(Vec::new(), |mut all, piece| async move {
        if all.len() + piece.len() > LARGEST {
            return Err(io::Error::other("more than this stand-in takes at once").into());
        }
        all.extend_from_slice(&piece);
        Ok(all)
    });
    collect.await.map(Bytes::from).map_err(|error| s3_error!(IncompleteBody, "{error}"))
}

fn size(bytes: u64) -> Option<i64> {
    i64::try_from(bytes).ok()
}

fn metadata_of(known: &Known) -> Option<Metadata> {
    Some(known.metadata.clone().into_iter().collect())
}

#[async_trait::async_trait]
impl S3 for Buckets {
    async fn list_objects_v2(
        &self,
        request: S3Request<ListObjectsV2Input>,
    ) -> S3Result<S3Response<ListObjectsV2Output>> {
        let input = request.input;
        let _held = self.lock();
        let prefix = input.prefix.clone().unwrap_or_default();
        let most = usize::try_from(input.max_keys.unwrap_or(1000)).unwrap_or(1000).clamp(1, 1000);
        let after = input.continuation_token.clone().or(input.start_after.clone()).unwrap_or_default();
        let (mut contents, mut folders, mut last, mut truncated) =
            (Vec::new(), Vec::new(), String::new(), false);
        for key in self.keys(&input.bucket, &prefix)? {
            let below = &key[prefix.len()..];
            let end = input
                .delimiter
                .as_deref()
                .and_then(|delimiter| Some(below.find(delimiter)? + delimiter.len()));
            let shown = match end {
                Some(end) => format!("{prefix}{}", &below[..end]),
                None => key.clone(),
            };
            if shown <= after || shown == last {
                continue;
            }
            if contents.len() + folders.len() == most {
                truncated = true;
                break;
            }
            last.clone_from(&shown);
            if end.is_some() {
                folders.push(CommonPrefix { prefix: Some(shown) });
            } else {
                let found = self.object(&input.bucket, &key)?;
                contents.push(ListedObject {
                    key: Some(key),
                    size: size(found.size),
                    last_modified: Some(found.modified.into()),
                    e_tag: Some(ETag::Strong(found.known.tag)),
                    ..ListedObject::default()
                });
            }
        }
        let count = i32::try_from(contents.len() + folders.len()).ok();
        Ok(S3Response::new(ListObjectsV2Output {
            contents: Some(contents),
            common_prefixes: Some(folders),
            is_truncated: Some(truncated),
            next_continuation_token: truncated.then_some(last),
            key_count: count,
            max_keys: i32::try_from(most).ok(),
            name: Some(input.bucket),
            prefix: input.prefix,
            delimiter: input.delimiter,
            encoding_type: input.encoding_type,
            ..ListObjectsV2Output::default()
        }))
    }

    async fn head_object(
        &self,
        request: S3Request<HeadObjectInput>,
    ) -> S3Result<S3Response<HeadObjectOutput>> {
        let _held = self.lock();
        let found = self.object(&request.input.bucket, &request.input.key)?;
        Ok(S3Response::new(HeadObjectOutput {
            content_length: size(found.size),
            last_modified: Some(found.modified.into()),
            metadata: metadata_of(&found.known),
            e_tag: Some(ETag::Strong(found.known.tag)),
            ..HeadObjectOutput::default()
        }))
    }

    async fn get_object(&self, request: S3Request<GetObjectInput>) -> S3Result<S3Response<GetObjectOutput>> {
        let _held = self.lock();
        let found = self.object(&request.input.bucket, &request.input.key)?;
        let data = Bytes::from(fs::read(&found.path).map_err(failed)?);
        let (data, content_range) = match request.input.range {
            Some(range) => {
                let part = range.check(found.size)?;
                let words = format!("bytes {}-{}/{}", part.start, part.end - 1, found.size);
                (data.slice(part.start as usize..part.end as usize), Some(words))
            }
            None => (data, None),
        };
        Ok(S3Response::new(GetObjectOutput {
            content_length: size(data.len() as u64),
            body: Some(StreamingBlob::from(Body::from(data))),
            content_range,
            last_modified: Some(found.modified.into()),
            metadata: metadata_of(&found.known),
            e_tag: Some(ETag::Strong(found.known.tag)),
            ..GetObjectOutput::default()
        }))
    }

    async fn put_object(&self, request: S3Request<PutObjectInput>) -> S3Result<S3Response<PutObjectOutput>> {
        let input = request.input;
        let data = whole(input.body).await?;
        let known =
            Known { tag: md5(&data), metadata: input.metadata.unwrap_or_default().into_iter().collect() };
        let _held = self.lock();
        self.check(&input.bucket, &input.key, input.if_none_match.as_ref(), input.if_match.as_ref())?;
        self.put(&input.bucket, &input.key, &data, &known)?;
        Ok(S3Response::new(PutObjectOutput {
            e_tag: Some(ETag::Strong(known.tag)),
            ..PutObjectOutput::default()
        }))
    }

    async fn delete_object(
        &self,
        request: S3Request<DeleteObjectInput>,
    ) -> S3Result<S3Response<DeleteObjectOutput>> {
        let _held = self.lock();
        let (bucket, key) = (&request.input.bucket, &request.input.key);
        let path = self.file(bucket, key)?;
        match fs::remove_file(&path) {
            Err(error) if !matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
                return Err(failed(error));
            }
            _ => {}
        }
        let _ = fs::remove_file(self.known_file(bucket, key));
        // Folders are only there because keys have slashes.
        let root = self.bucket(bucket)?;
        let mut folder = path.parent().map(Path::to_owned);
        while let Some(empty) = folder.filter(|folder| *folder != root && fs::remove_dir(folder).is_ok()) {
            folder = empty.parent().map(Path::to_owned);
        }
        Ok(S3Response::new(DeleteObjectOutput::default()))
    }

    async fn copy_object(
        &self,
        request: S3Request<CopyObjectInput>,
    ) -> S3Result<S3Response<CopyObjectOutput>> {
        let _held = self.lock();
        let input = request.input;
        let CopySource::Bucket { bucket, key, .. } = input.copy_source else {
            return Err(s3_error!(NotImplemented));
        };
        let found = self.object(&bucket, &key)?;
        let data = fs::read(&found.path).map_err(failed)?;
        self.put(&input.bucket, &input.key, &data, &found.known)?;
        let result = CopyObjectResult {
            e_tag: Some(ETag::Strong(found.known.tag)),
            last_modified: Some(SystemTime::now().into()),
            ..CopyObjectResult::default()
        };
        Ok(S3Response::new(CopyObjectOutput {
            copy_object_result: Some(result),
            ..CopyObjectOutput::default()
        }))
    }

    async fn create_multipart_upload(
        &self,
        request: S3Request<CreateMultipartUploadInput>,
    ) -> S3Result<S3Response<CreateMultipartUploadOutput>> {
        let input = request.input;
        self.file(&input.bucket, &input.key)?;
        let mut uploads = self.lock();
        let number = format!("upload-{}-{}", uploads.len(), md5(input.key.as_bytes()));
        let metadata = input.metadata.unwrap_or_default().into_iter().collect();
        uploads.insert(number.clone(), (Known { tag: String::new(), metadata }, BTreeMap::new()));
        Ok(S3Response::new(CreateMultipartUploadOutput {
            bucket: Some(input.bucket),
            key: Some(input.key),
            upload_id: Some(number),
            ..CreateMultipartUploadOutput::default()
        }))
    }

    async fn upload_part(
        &self,
        request: S3Request<UploadPartInput>,
    ) -> S3Result<S3Response<UploadPartOutput>> {
        let input = request.input;
        let data = whole(input.body).await?;
        let tag = md5(&data);
        let mut uploads = self.lock();
        let (_, parts) = uploads.get_mut(&input.upload_id).ok_or_else(|| s3_error!(NoSuchUpload))?;
        parts.insert(input.part_number, data);
        Ok(S3Response::new(UploadPartOutput {
            e_tag: Some(ETag::Strong(tag)),
            ..UploadPartOutput::default()
        }))
    }

    async fn complete_multipart_upload(
        &self,
        request: S3Request<CompleteMultipartUploadInput>,
    ) -> S3Result<S3Response<CompleteMultipartUploadOutput>> {
        let input = request.input;
        let mut uploads = self.lock();
        let (mut known, parts) = uploads.remove(&input.upload_id).ok_or_else(|| s3_error!(NoSuchUpload))?;
        let data: Vec<u8> = parts.values().flat_map(|part| part.iter().copied()).collect();
        known.tag = format!("{}-{}", md5(&data), parts.len());
        self.put(&input.bucket, &input.key, &data, &known)?;
        Ok(S3Response::new(CompleteMultipartUploadOutput {
            bucket: Some(input.bucket),
            key: Some(input.key),
            e_tag: Some(ETag::Strong(known.tag)),
            ..CompleteMultipartUploadOutput::default()
        }))
    }

    async fn abort_multipart_upload(
        &self,
        request: S3Request<AbortMultipartUploadInput>,
    ) -> S3Result<S3Response<AbortMultipartUploadOutput>> {
        self.lock().remove(&request.input.upload_id);
        Ok(S3Response::new(AbortMultipartUploadOutput::default()))
    }
}
